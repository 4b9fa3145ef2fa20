import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useMay } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { useWidth, type Axis } from '../axis/strip'
import { Minute, noDate } from '../parts/day'
import { Awaited, Trouble } from '../parts/trouble'
import { shortTime, wallMinute } from '../time/format'
import { useKeep, useSpan, useZone } from '../time/span'
import { NoticesNav } from './head'
import { HoldsNote } from './holds'
import { useDuty, useGaps, useNoticePeople } from './queries'
import { listed } from './words'

type Pool = Schemas['PoolDuty']

/** Who is on duty when, and where nobody would be told. */
export function DutyPage() {
  const [span] = useSpan()
  const duty = useDuty(span)
  const gaps = useGaps()
  const data = duty.data
  if (!data) return <Awaited error={duty.error} />
  const axis = axisOf(data.span)
  return (
    <>
      <NoticesNav />
      <Band span={data.span} />
      <Trouble error={duty.error ?? gaps.error} />
      <Typography variant="h1" className="statement">
        {statement(data.pools)}
      </Typography>
      <HoldsNote />
      <Gaps gaps={gaps.data ?? []} known={gaps.data !== undefined} />
      <section aria-label="Pools">
        <Typography variant="h2" className="group">
          On duty
        </Typography>
        {data.pools.length === 0 && (
          <div className="empty">
            Nobody is in a pool yet. A pool is people who can be told together, or of whom one at a time is on duty. <Link to="/set-up/pools">Make one under Set-up</Link>, and name it in a notice plan.
          </div>
        )}
        {data.pools.map((p) => (
          <PoolRow key={p.id} pool={p} axis={axis} />
        ))}
      </section>
    </>
  )
}

/** Who is on duty, in a sentence. */
function statement(pools: Pool[]): string {
  const rotating = pools.filter((p) => p.rotates)
  if (pools.length === 0) return 'Nobody is on duty.'
  if (rotating.length === 0) return 'No pool has a rotation: all of each are told.'
  const of = rotating.map((p) => `${p.now.map((n) => n.name).join(', ') || 'nobody'} for ${p.name}`)
  return `On duty now: ${listed(of)}.`
}

function Gaps({ gaps, known }: { gaps: Schemas['Gap'][]; known: boolean }) {
  const { zone } = useZone()
  const keep = useKeep()
  if (!known) return null
  if (gaps.length === 0) return <p className="sub">Of every service that is measured somebody is told, at every hour of the coming week.</p>
  const where = (g: Schemas['Gap']) => (g.about === 'service' ? `/services/${g.id}` : g.about === 'relay' ? '/set-up/relays' : g.about === 'pool' ? '/set-up/pools' : '/set-up/people')
  return (
    <Alert severity="warning" className="trouble" sx={{ marginTop: 1.5, maxWidth: 860 }} data-gaps={gaps.length}>
      <b>Where a notice would reach nobody</b>
      {gaps.map((g, i) => (
        <Box key={i} data-gap={g.kind}>
          <Link to={keep(where(g))}>{g.name}</Link>: {g.text}
          {g.from && `, first from ${shortTime(g.from, zone)}`}.
        </Box>
      ))}
    </Alert>
  )
}

function PoolRow({ pool, axis }: { pool: Pool; axis: Axis }) {
  const [handing, setHanding] = useState(false)
  const may = useMay()('operate')
  const { zone } = useZone()
  const until = pool.turns.find((t) => Date.parse(t.from) <= axis.now && axis.now < Date.parse(t.to))?.to
  return (
    <>
      <div className="entry axis-row" data-pool={pool.id}>
        <span>
          <div className="name">{pool.name}</div>
          <div className="sub">{pool.plans.length ? `told by ${listed(pool.plans.map((p) => p.name))}` : 'no plan tells it'}</div>
        </span>
        {pool.rotates ? <Turns turns={pool.turns} axis={axis} label={pool.name} /> : <span className="sub">all are told: {listed(pool.members.map((m) => m.name))}</span>}
        <span className="now">
          <b>{pool.rotates ? pool.now.map((n) => n.name).join(', ') || 'nobody' : `${pool.members.length} ${pool.members.length === 1 ? 'person' : 'people'}`}</b>
          <div className="sub">
            {pool.rotates && until && Date.parse(until) < axis.to && `until ${shortTime(until, zone)} `}
            {pool.rotates && may && (
              <button type="button" className="link" aria-expanded={handing} onClick={() => setHanding(!handing)}>
                hand over
              </button>
            )}
          </div>
        </span>
      </div>
      {handing && <HandOver pool={pool} done={() => setHanding(false)} />}
    </>
  )
}

/** Turns of duty on the axis, each with a name; one who stands in is drawn dashed. */
function Turns({ turns, axis, label }: { turns: Schemas['TurnView'][]; axis: Axis; label: string }) {
  const [ref, width] = useWidth<SVGSVGElement>()
  const { zone } = useZone()
  const scale = width / (axis.to - axis.from)
  const said = turns.filter((t) => t.person).map((t) => `${t.name}${t.stand_in ? ', standing in,' : ''} from ${shortTime(t.from, zone)}`)
  return (
    <svg ref={ref} className="strip" height="34" role="img" aria-label={`${label}: ${said.join('; ') || 'nobody is on duty'}`}>
      {turns.map((t) => {
        const from = (Date.parse(t.from) - axis.from) * scale
        const long = (Date.parse(t.to) - Date.parse(t.from)) * scale
        const now = Date.parse(t.from) <= axis.now && axis.now < Date.parse(t.to)
        const room = Math.floor((long - 10) / 6.4)
        const text = t.name.length <= room ? t.name : (t.name.split(' ')[0] ?? '').length <= room ? t.name.split(' ')[0] : ''
        return (
          <g key={t.from} data-turn={t.name}>
            <title>{`${t.name || 'nobody'}, ${shortTime(t.from, zone)} to ${shortTime(t.to, zone)}`}</title>
            <rect
              x={from + 1}
              y="8"
              width={Math.max(2, long - 2)}
              height="22"
              fill={t.person && now ? 'var(--faint)' : 'none'}
              stroke={t.person ? 'var(--ground)' : 'var(--down)'}
              strokeWidth={now ? 1.5 : 0.8}
              strokeDasharray={t.stand_in ? '4 2' : t.person ? undefined : '1 3'}
            />
            {text && (
              <text x={from + long / 2} y="23" textAnchor="middle" fontSize="11" fontWeight={now ? 600 : 400} fill="currentColor">
                {text}
              </text>
            )}
          </g>
        )
      })}
      {axis.now > axis.from && axis.now < axis.to && <line x1={(axis.now - axis.from) * scale} x2={(axis.now - axis.from) * scale} y1="2" y2="34" stroke="currentColor" strokeWidth="1.5" />}
    </svg>
  )
}

/** Puts somebody else on duty for a while: from now, for some hours, in two clicks. */
function HandOver({ pool, done }: { pool: Pool; done: () => void }) {
  const people = useNoticePeople()
  const { home } = useZone()
  const hour = 3_600_000
  const on = pool.now[0]?.id
  const [person, setPerson] = useState(pool.members.find((m) => m.id !== on)?.id ?? '')
  const [from, setFrom] = useState(() => wallMinute(Date.now(), home))
  const [to, setTo] = useState(() => wallMinute(Date.now() + 8 * hour, home))
  const hand = useChange({
    mutationFn: () => ask(api.POST('/api/v1/pools/{id}/overrides', { params: { path: { id: pool.id } }, body: { person, from: from.replace(' ', 'T'), to: to.replace(' ', 'T') } })),
    again: 'all',
    onSuccess: done,
  })
  const fault = (f: string) => (hand.error instanceof Problem ? hand.error.fields[f] : undefined)
  const list = people.data ?? []
  return (
    <form
      className="in-a-row"
      aria-label={`Hand over ${pool.name}`}
      onSubmit={(e) => {
        e.preventDefault()
        hand.mutate()
      }}
    >
      <TextField select label="To" value={list.some((p) => p.id === person) ? person : ''} onChange={(e) => setPerson(e.target.value)} sx={{ width: 240 }} error={Boolean(fault('person'))} helperText={fault('person') ?? reached(list.find((p) => p.id === person))}>
        {list.map((p) => (
          <MenuItem key={p.id} value={p.id}>
            {p.name}
          </MenuItem>
        ))}
      </TextField>
      <Minute label="From" value={from} change={setFrom} zone={home} width={200} required error={fault('from')} />
      <Minute label="Until" value={to} change={setTo} zone={home} width={200} required error={fault('to')} help={home} />
      <Button type="submit" variant="contained" sx={{ height: 40 }} disabled={!person || hand.isPending || [from, to].some((v) => v === '' || v === noDate)}>
        Hand over
      </Button>
      <Button variant="text" sx={{ height: 40 }} onClick={done}>
        Leave it
      </Button>
      <Trouble error={hand.error && !['person', 'from', 'to'].some(fault) ? hand.error : undefined} />
    </form>
  )
}

/** By what somebody is reached. */
function reached(p: Schemas['NoticePerson'] | undefined): string | undefined {
  if (!p) return undefined
  return p.reached.length ? `reached by ${listed(p.reached.map((k) => (k === 'sms' ? 'SMS' : 'e-mail')))}` : 'is reached by the inbox only'
}
