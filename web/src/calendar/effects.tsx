import Box from '@mui/material/Box'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { duration, percent, weekTime } from '../time/format'
import { useKeep, useZone } from '../time/span'

type View = Schemas['WorkView']

const tones: Record<string, string> = { calm: 'word-up', costs: 'word-degraded', bad: 'word-down' }

/** What planned work does to each agreement that it touches. */
export function Effects({ view }: { view: View }) {
  const keep = useKeep()
  const { zone } = useZone()
  if (view.effects.length === 0) return <p className="sub">{view.occurrences.length ? 'It touches no agreement.' : 'Nothing of it is to come.'}</p>
  const several = new Set(view.effects.map((e) => e.agreement)).size < view.effects.length
  return (
    <Box data-effects sx={{ display: 'grid', gap: 1.25 }}>
      {view.effects.map((e) => (
        <div key={`${e.agreement} ${e.period?.name ?? ''}`} data-effect={e.agreement} data-tone={e.tone}>
          <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1.5, lineHeight: 1.3 }}>
            <Link to={keep(`/agreements/${e.agreement}`)}>
              <b>{e.name}</b>
            </Link>
            <span className={tones[e.tone]}>
              {e.mark}
            </span>
          </Box>
          <div className="sub">
            {e.customer || 'internal'}
            {several && e.period && ` · ${e.period.words}`}
            {e.fault && <div>{e.fault}</div>}
            {e.why.map((w) => (
              <div key={w}>{w}</div>
            ))}
            {e.downtime_ms > 0 && (
              <div>
                If it is down throughout: {percent(e.availability_percent)} → <b className={tones[e.tone]}>{percent(e.availability_after_percent)}</b>, {duration(e.left_after_ms)} of the allowance left
                {e.runs_out_at && `, used up ${weekTime(e.runs_out_at, zone)}`}
                {e.credit_percent !== '0' && `; a credit of ${e.credit_percent} %`}.
              </div>
            )}
          </div>
        </div>
      ))}
    </Box>
  )
}

/** What it clashes with. */
export function Clashes({ of }: { of: Schemas['ClashView'][] }) {
  const { zone } = useZone()
  if (of.length === 0) return null
  return (
    <div className="trouble" data-clashes={of.length}>
      {of.map((c) => (
        <div key={c.from + c.words}>
          <b className="word-degraded">clash</b> {weekTime(c.from, zone)} to {weekTime(c.to, zone)}: {c.words}
        </div>
      ))}
    </div>
  )
}
