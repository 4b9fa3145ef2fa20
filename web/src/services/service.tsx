import Button from '@mui/material/Button'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, ask, type Schemas } from '../api/client'
import { useMayChange, useServicePeriod } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip, type Axis } from '../axis/strip'
import { usePartyName } from '../parts/party'
import { Confirm, NoAccount, Trouble } from '../parts/trouble'
import { duration, percent, shortTime } from '../time/format'
import { useKeep, usePeriod, useZone } from '../time/period'
import { kinds, leading } from './kinds'
import { MomentAside } from './moment'

/** What happened to a service, where, and why it counts as it does. */
export function ServicePage() {
  const { id = '' } = useParams()
  const [period] = usePeriod()
  const service = useServicePeriod(id, period)
  const [params, setParams] = useSearchParams()
  const data = service.data
  if (!data) return <Trouble error={service.error} />
  const axis = axisOf(data.period)
  const asked = params.get('at')
  const parsed = asked ? Date.parse(asked) : NaN
  const at = asked === 'now' ? Math.min(axis.now, axis.to - 1) : Number.isNaN(parsed) ? undefined : parsed
  const pick = (t: number) =>
    setParams(
      (p) => {
        p.set('at', new Date(Math.round(t)).toISOString())
        return p
      },
      { replace: true },
    )
  const row = { axis, at, onPick: pick }
  return (
    <div className="with-aside">
      <div>
        <Band period={data.period} />
        <Head data={data} />
        <Trouble error={service.error} />
        {data.accounts.length > 0 && (
          <section aria-label="Agreements">
            <Heads left="Under each agreement" axis="What it counts as" right={['Allowance left', 'So far']} />
            {data.accounts.map((a) => {
              const word = a.word
              return (
                <div key={a.agreement} className="entry axis-row">
                  <span>
                    <div className="name">{a.customer || 'internal'}</div>
                    <div className="sub">
                      {a.name} · {a.target_percent} %
                    </div>
                  </span>
                  {a.fault ? (
                    <NoAccount why={a.fault} />
                  ) : (
                    <>
                      <Strip intervals={a.intervals} planned={a.planned} label={a.name} {...row} />
                      <span className="pair">
                        <b className={a.figures.allowance_left_ms < 0 ? 'word-down' : undefined}>{duration(a.figures.allowance_left_ms)}</b>
                        <b>{percent(a.figures.availability_percent)}</b>
                        <span>of {duration(a.figures.allowance_ms)}</span>
                        <span className={`word-${word.replace(' ', '-')}`}>{word}</span>
                      </span>
                    </>
                  )}
                </div>
              )
            })}
          </section>
        )}
        <section aria-label="State" style={{ marginTop: 18 }}>
          <Heads left="The service" axis="Its state" right={['', '']} />
          <div className="entry axis-row">
            <span className="name">{data.service.spec.name}</span>
            <Strip intervals={data.strip} label={data.service.spec.name} {...row} />
            <span />
          </div>
        </section>
        {data.checks.map((c) => (
          <CheckSection key={c.check.id} of={c} row={row} />
        ))}
        {data.upstream.length > 0 && (
          <section aria-label="Depends on" style={{ marginTop: 18 }}>
            <Heads left="Depends on" axis="Their states" right={['', '']} />
            {data.upstream.map((u) => (
              <div key={u.service} className="entry axis-row">
                <Link className="name" to={`/services/${u.service}`} style={{ textDecoration: 'none' }}>
                  {u.name}
                </Link>
                <Strip thin intervals={u.strip} label={u.name} {...row} />
                <span />
              </div>
            ))}
          </section>
        )}
        {data.checks.length === 0 && data.upstream.length === 0 && <NoChecks id={id} />}
        <Legend />
      </div>
      <MomentAside service={id} at={at} />
    </div>
  )
}

function Heads({ left, axis, right }: { left: string; axis: string; right: [string, string] }) {
  return (
    <div className="axis-row column-heads" aria-hidden>
      <span>{left}</span>
      <span>{axis}</span>
      <span className="pair">
        <span>{right[0]}</span>
        <span>{right[1]}</span>
      </span>
    </div>
  )
}

function Head({ data }: { data: Schemas['ServicePeriod'] }) {
  const { zone } = useZone()
  const team = usePartyName('team')
  const keep = useKeep()
  const may = useMayChange()(data.service.spec.owner)
  const navigate = useNavigate()
  const client = useQueryClient()
  const [asking, setAsking] = useState(false)
  const id = data.service.id
  const retire = useMutation({
    mutationFn: () => ask(api.DELETE('/api/v1/services/{id}', { params: { path: { id } } })),
    onSuccess: async () => {
      await client.invalidateQueries()
      await navigate(keep('/services'))
    },
    onSettled: () => setAsking(false),
  })
  const restore = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/services/{id}/restore', { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries(),
  })
  const s = data.service.spec
  const word = data.state?.state ?? 'unmeasured'
  return (
    <>
      <div className="head">
        <div>
          <h1 style={{ margin: 0 }}>{s.name}</h1>
          <div className="sub">
            {data.service.retired ? <b>retired</b> : <b className={`word-${word}`}>{word === 'unmeasured' ? (data.checks.length === 0 ? 'awaiting its first check' : !data.state || data.state.awaiting ? 'awaiting first measurement' : 'not measured') : word}</b>}
            {data.state && !data.service.retired && ` since ${shortTime(data.state.since_at, zone)}`}
            {data.state?.never_good && ', and was never good: is its target right?'}
            {data.state && data.state.waiting > 0 ? `, ${data.state.waiting} ${data.state.waiting === 1 ? 'measurement' : 'measurements'} not yet confirmed` : ''} · {s.kind}
            {s.owner ? ` · ${team(s.owner)}` : ''}
            {s.runbook && (
              <>
                {' · '}
                <a href={s.runbook} rel="noreferrer">
                  runbook
                </a>
              </>
            )}
          </div>
        </div>
        {may && (
          <div className="actions">
            {data.service.retired ? (
              <Button onClick={() => restore.mutate()}>Restore</Button>
            ) : (
              <>
                <Button component={Link} to={keep(`/checks/new?service=${id}`)}>
                  Add a check
                </Button>
                <Button component={Link} to={keep(`/services/${id}/edit`)}>
                  Edit
                </Button>
                <Button color="error" variant="text" onClick={() => setAsking(true)}>
                  Retire
                </Button>
              </>
            )}
          </div>
        )}
      </div>
      <Trouble error={retire.error ?? restore.error} />
      <Confirm open={asking} title={`Retire ${s.name}?`} text="It is judged no more from now on. Its history, its accounts and its reports stay, and it can be restored." act={`Retire ${s.name}`} busy={retire.isPending} onYes={() => retire.mutate()} onNo={() => setAsking(false)} />
    </>
  )
}

function NoChecks({ id }: { id: string }) {
  const keep = useKeep()
  return (
    <div className="empty">
      <p>
        Nothing measures this service yet. <Link to={keep(`/checks/new?service=${id}`)}>Add a check</Link>, or say what it depends on under Edit.
      </p>
    </div>
  )
}

function CheckSection({ of, row }: { of: Schemas['CheckLanes']; row: { axis: Axis; at: number | undefined; onPick: (t: number) => void } }) {
  const keep = useKeep()
  const c = of.check.spec
  const informs = c.role === 'informs'
  return (
    <section aria-label={c.name} style={{ marginTop: 18 }}>
      <div className="axis-row column-heads">
        <span>
          <Link to={keep(`/checks/${of.check.id}`)} style={{ color: 'var(--mui-palette-text-primary)', fontWeight: 600 }}>
            {c.name}
          </Link>
        </span>
        <span>
          {[kinds[c.kind].word, c.target].filter(Boolean).join(' · ')} · every {duration(c.interval_s * 1000)}
          {informs ? ' · informs only' : ''}
          {c.certificate?.waive_trust && ' · trust waived'}
          {c.certificate?.waive_name && ' · name waived'}
          {of.check.retired ? ' · retired' : ''}
        </span>
        <span style={{ textAlign: 'right' }}>latest</span>
      </div>
      {of.lanes.map((l) => (
        <div key={l.location} className="entry axis-row" data-lane={`${of.check.id} ${l.location}`} style={{ paddingBlock: 5 }}>
          <span>
            <div>{l.location_name}</div>
          </span>
          <span>
            <Strip thin intervals={l.strip} label={`${c.name} from ${l.location_name}`} {...row} />
            <Times hours={l.hours} axis={row.axis} unit={kinds[c.kind].leading.unit} />
          </span>
          <Latest lane={l} kind={c.kind} />
        </div>
      ))}
    </section>
  )
}

function Latest({ lane, kind }: { lane: Schemas['LaneView']; kind: string }) {
  const { zone } = useZone()
  const m = lane.last
  if (!m) return <span className="sub" style={{ textAlign: 'right' }}>awaiting first measurement</span>
  const word: Record<string, string> = { ok: 'up', degraded: 'degraded', failed: 'down', error: 'unmeasured' }
  return (
    <span style={{ textAlign: 'right', lineHeight: 1.3 }} title={m.detail}>
      <b className={`word-${word[m.outcome]}`}>{m.outcome}</b> {leading(kind, m.measures)}
      <div className="sub">{lane.waiting > 0 ? `${lane.waiting} not yet confirmed` : shortTime(m.at, zone)}</div>
    </span>
  )
}

/** The leading measure over the period: the hourly mean as a line, its 95th percentile as a veil. */
function Times({ hours, axis, unit }: { hours: Schemas['HourView'][]; axis: Axis; unit: string }) {
  const points = hours.filter((h) => h.mean !== null)
  if (points.length < 2) return null
  const high = Math.max(...points.map((h) => h.p95 ?? h.mean ?? 0))
  const w = 1000
  const h = 18
  const x = (t: string) => ((Date.parse(t) + 1_800_000 - axis.from) / (axis.to - axis.from)) * w
  const y = (v: number) => h - 1 - (v / high) * (h - 2)
  // A silent hour breaks the line: nothing is drawn where nothing was measured.
  const runs: Schemas['HourView'][][] = []
  for (const p of points) {
    const run = runs[runs.length - 1]
    const before = run?.[run.length - 1]
    if (run && before && Date.parse(p.at) - Date.parse(before.at) <= 3_600_000) run.push(p)
    else runs.push([p])
  }
  const line = (run: Schemas['HourView'][], f: (p: Schemas['HourView']) => number) => run.map((p) => `${x(p.at).toFixed(1)},${y(f(p)).toFixed(1)}`).join(' ')
  return (
    <svg className="strip" viewBox={`0 0 ${w} ${h}`} height={h} preserveAspectRatio="none" role="img" aria-label={`Hourly mean, at most ${high.toFixed(0)} ${unit}`}>
      <title>{`Hourly mean and 95th percentile; the top is ${high.toFixed(0)} ${unit}`}</title>
      {runs.map((run, i) => (
        <g key={i}>
          <polyline points={line(run, (p) => p.p95 ?? p.mean ?? 0)} fill="none" stroke="var(--mui-palette-text-secondary)" opacity="0.35" strokeWidth="1" vectorEffect="non-scaling-stroke" />
          <polyline points={line(run, (p) => p.mean ?? 0)} fill="none" stroke="var(--mui-palette-text-secondary)" strokeWidth="1" vectorEffect="non-scaling-stroke" />
        </g>
      ))}
    </svg>
  )
}
