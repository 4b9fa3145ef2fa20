import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ask } from '../api/client'
import { Hatches, Legend, Strip, classTimes } from '../axis/strip'
import { OwnPeriod } from '../parts/own-period'
import { Awaited, NoAccount, Trouble } from '../parts/trouble'
import { useHeading } from '../shell/heading'
import { duration, fullTime, percent } from '../time/format'

/** How what was promised to a customer stands, by a link, without an account; its token stands behind # and so in no log. */
export function SharedStanding() {
  useHeading()
  const [token] = useState(() => window.location.hash.slice(1))
  const shared = useQuery({ queryKey: ['shared-standing', token], queryFn: () => ask(api.POST('/api/v1/shared/standing', { body: { token } })), enabled: token !== '', refetchInterval: 5 * 60_000, retry: false })
  const s = shared.data
  if (!s)
    return (
      <main className="centre">
        <div className="card">{token === '' ? <Trouble error={new Error('The link is incomplete: open it as it was sent, with what stands behind #.')} /> : <Awaited error={shared.error} />}</div>
      </main>
    )
  const { span, accounts } = s.standing
  const axis = { from: Date.parse(span.from), to: Date.parse(span.to), now: Date.parse(span.now) }
  const bad = accounts.filter((a) => a.word === 'missed' || a.word === 'at risk')
  return (
    <main className="alone">
      <Hatches />
      <div className="sub">{s.organisation}</div>
      <Typography variant="h1">
        {s.customer}, {span.words}: {bad.length === 0 ? 'all that was promised stands well' : `${bad.length} of ${accounts.length} ${bad.length === 1 ? 'is' : 'are'} missed or at risk`}.
      </Typography>
      <p className="sub">As of {fullTime(span.now, span.timezone)} ({span.timezone}). Figures of a period that runs may still change; what is published stays.</p>
      {accounts.length === 0 && <p className="empty">Nothing is promised at present.</p>}
      {accounts.map((a) => (
        <div key={a.agreement} className="entry axis-row" data-agreement={a.agreement}>
          <span>
            <div className="name">{a.name}</div>
            <div className="sub">
              {a.service_name} · {a.target_percent} %
            </div>
            <OwnPeriod of={a} axis={axis} />
          </span>
          {a.fault ? (
            <NoAccount why={a.fault} />
          ) : (
            <>
              <Strip columns={a.strip} total={classTimes(a.figures.total_ms)} planned={a.planned} axis={axis} label={a.name} />
              <span className="pair">
                <b className={a.figures.allowance_left_ms < 0 ? 'word-down' : undefined}>{duration(a.figures.allowance_left_ms)}</b>
                <b>{percent(a.figures.availability_percent)}</b>
                <span>of {duration(a.figures.allowance_ms)}</span>
                <span className={`word-${a.word.replace(' ', '-')}`}>{a.word}</span>
              </span>
            </>
          )}
        </div>
      ))}
      <Legend />
    </main>
  )
}
