import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import type { Schemas } from '../api/client'
import { useKinds, useMay, useMayChange, useServiceSpan } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { useOneStop } from '../axis/stops'
import { Legend, Strip, type Axis } from '../axis/strip'
import { HoldsNote } from '../notices/holds'
import { usePartyName } from '../parts/party'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Awaited, NoAccount, Trouble } from '../parts/trouble'
import { between, duration, durationUp, percent, secondTime, shortTime } from '../time/format'
import { exactly, momentOf, useKeep, useSpan, useZone } from '../time/span'
import { kinds, leading } from './kinds'
import { MomentAside } from './moment'

// Loaded when first asked for: it brings the picker of dates.
const HoldForm = lazy(() => import('../notices/hold-form'))

/** What happened to a service, where, and why it counts as it does. */
export function ServicePage() {
  const { id = '' } = useParams()
  const [span] = useSpan()
  const service = useServiceSpan(id, span)
  const [params, setParams] = useSearchParams()
  const data = service.data
  if (!data) return <Awaited error={service.error} />
  const axis = axisOf(data.span)
  const last = Math.min(axis.now, axis.to) - 1
  const at = momentOf(params.get('at'), last)
  // The end of what goes on is now, also where what is shown is a while old.
  const pick = (t: number) =>
    setParams(
      (p) => {
        p.set('at', t === last && axis.now < axis.to ? 'now' : new Date(Math.round(t)).toISOString())
        return p
      },
      { replace: true },
    )
  return <Shown id={id} data={data} error={service.error} row={{ axis, at, onPick: pick, zooms: true }} />
}

type RowProps = { axis: Axis; at: number | undefined; onPick: (t: number) => void; zooms: boolean }

function Shown({ id, data, error, row }: { id: string; data: Schemas['ServiceSpan']; error: unknown; row: RowProps }) {
  const oneStop = useOneStop()
  return (
    <div className="with-aside">
      <div {...oneStop}>
        <Band span={data.span} />
        <Head data={data} />
        <Trouble error={error} />
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
        <Box component="section" aria-label="State" sx={{ marginTop: '18px' }}>
          <Heads left="The service" axis="Its state" right={['', '']} />
          <div className="entry axis-row">
            <span className="name">{data.service.spec.name}</span>
            <Strip intervals={data.strip} label={`${data.service.spec.name}, its state`} {...row} />
            <span />
          </div>
        </Box>
        <Outages outages={data.outages} earlier={data.earlier_outages} />
        {data.checks.map((c) => (
          <CheckSection key={c.check.id} of={c} row={row} />
        ))}
        {data.upstream.length > 0 && (
          <Box component="section" aria-label="Depends on" sx={{ marginTop: '18px' }}>
            <Heads left="Depends on" axis="Their states" right={['', '']} />
            {data.upstream.map((u) => (
              <div key={u.service} className="entry axis-row">
                <Link className="name" to={`/services/${u.service}`}>
                  {u.name}
                </Link>
                <Strip thin intervals={u.strip} label={`${u.name}, which it depends on`} {...row} />
                <span />
              </div>
            ))}
          </Box>
        )}
        {data.checks.length === 0 && data.upstream.length === 0 && <NoChecks id={id} />}
        <Legend />
      </div>
      <MomentAside service={id} at={row.at} />
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

function Head({ data }: { data: Schemas['ServiceSpan'] }) {
  const { zone } = useZone()
  const team = usePartyName('team')
  const keep = useKeep()
  const may = useMayChange()(data.service.spec.owner)
  const operates = useMay()('operate')
  const [holding, setHolding] = useState(false)
  const navigate = useNavigate()
  const id = data.service.id
  const retiring = useRetiring('services', (did) => did === 'retired' && navigate(keep('/services')))
  const s = data.service.spec
  const word = data.state?.state ?? 'unmeasured'
  return (
    <>
      <div className="head">
        <div>
          <Typography variant="h1">{s.name}</Typography>
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
        {(may || !data.service.retired) && (
          <div className="actions">
            {!data.service.retired && (
              <>
                <Button variant="text" component={Link} to={keep(`/services/dependencies?pick=${id}&of=${id}`)}>
                  What it needs
                </Button>
                <Button variant="text" component={Link} to={keep(`/services/suppose?what=${id}`)}>
                  Suppose it fails
                </Button>
              </>
            )}
            {operates && !data.service.retired && (
              <Button variant="text" aria-expanded={holding} onClick={() => setHolding(!holding)}>
                Hold notices
              </Button>
            )}
            {!may ? null : data.service.retired ? (
              <Button onClick={() => retiring.restore(id)}>Restore</Button>
            ) : (
              <>
                <Button component={Link} to={keep(`/checks/new?service=${id}`)}>
                  Add a check
                </Button>
                <Button component={Link} to={keep(`/services/${id}/edit`)}>
                  Edit
                </Button>
                <Button color="error" variant="text" onClick={() => retiring.ask(id)}>
                  Retire
                </Button>
              </>
            )}
          </div>
        )}
      </div>
      {holding && (
        <Suspense fallback={null}>
          <HoldForm about="service" subject={id} done={() => setHolding(false)} />
        </Suspense>
      )}
      <HoldsNote service={id} />
      <Trouble error={retiring.error} />
      <RetireQuestion of={retiring} title={`Retire ${s.name}?`} text="It is judged no more from now on. Its history, its accounts and its reports stay, and it can be restored." act={`Retire ${s.name}`} />
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

function CheckSection({ of, row }: { of: Schemas['CheckLanes']; row: RowProps }) {
  const keep = useKeep()
  const c = of.check.spec
  const informs = c.role === 'informs'
  const measures = useKinds().data?.find((k) => k.name === c.kind)?.measures ?? []
  const leads = measures.find((m) => m.name === kinds[c.kind].leading.measure)
  const limit = (c.limits ?? []).find((l) => l.measure === leads?.name)
  return (
    <Box component="section" aria-label={c.name} sx={{ marginTop: '18px' }}>
      <div className="axis-row column-heads">
        <span>
          <Link className="name" to={keep(`/checks/${of.check.id}`)}>
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
        <Box component="span" sx={{ textAlign: 'right' }}>latest</Box>
      </div>
      {of.lanes.map((l) => (
        <Box key={l.location} className="entry axis-row" data-lane={`${of.check.id} ${l.location}`} sx={{ paddingBlock: '5px' }}>
          <span>
            <div>{l.location_name}</div>
            <Reason of={l} />
          </span>
          <span>
            <Strip thin intervals={l.strip} label={`${c.name} from ${l.location_name}`} {...row} />
            <Curve lane={l} top={highest(of.lanes, limit)} axis={row.axis} unit={leads?.unit ?? ''} word={leads?.text ?? ''} limit={limit} />
          </span>
          <Latest lane={l} kind={c.kind} />
        </Box>
      ))}
    </Box>
  )
}

/** Why a lane is not up, in the open, and since when. */
function Reason({ of: l }: { of: Schemas['LaneView'] }) {
  const { zone } = useZone()
  const last = l.strip.at(-1)
  if (!l.last || l.last.outcome === 'ok' || !last || last.class === 'up') return null
  return (
    <div className="sub" data-reason>
      {last.class === 'unmeasured' ? 'not measured' : last.class} since {shortTime(last.from, zone)}
      {l.last.detail && `: ${l.last.detail}`}
    </div>
  )
}

function Latest({ lane, kind }: { lane: Schemas['LaneView']; kind: string }) {
  const { zone } = useZone()
  const m = lane.last
  if (!m) return <Box component="span" className="sub" sx={{ textAlign: 'right' }}>awaiting first measurement</Box>
  const word: Record<string, string> = { ok: 'up', degraded: 'degraded', failed: 'down', error: 'unmeasured' }
  return (
    <Box component="span" sx={{ textAlign: 'right', lineHeight: 1.3 }} title={m.detail}>
      <b className={`word-${word[m.outcome]}`}>{m.outcome}</b> {leading(kind, m.measures)}
      <div className="sub">{lane.waiting > 0 ? `${lane.waiting} not yet confirmed` : shortTime(m.at, zone)}</div>
    </Box>
  )
}

type Outage = Schemas['OutageView']

/** When it was down or degraded, for how long, why, and what that counts as. */
function Outages({ outages, earlier }: { outages: Outage[]; earlier: number }) {
  const { zone } = useZone()
  const [, setParams] = useSearchParams()
  const [, setSpan] = useSpan()
  const [all, setAll] = useState(false)
  if (outages.length === 0) return null
  const few = 3
  const shown = all ? outages : outages.slice(0, few)
  const explain = (o: Outage) =>
    setParams((p) => {
      p.set('at', o.from)
      return p
    })
  const near = (o: Outage) => {
    const [from, to] = [Date.parse(o.from), Date.parse(o.to)]
    const margin = Math.max(300_000, (to - from) / 4)
    setSpan(exactly(from - margin, to + margin))
  }
  return (
    <Box component="section" aria-label="Outages" sx={{ marginTop: '18px' }}>
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Outages</Typography>
      <Table size="small" data-outages={outages.length + earlier}>
        <TableHead>
          <TableRow>
            <TableCell>From</TableCell>
            <TableCell>To</TableCell>
            <TableCell>For</TableCell>
            <TableCell>Why</TableCell>
            <TableCell>Counts as</TableCell>
            <TableCell aria-hidden />
          </TableRow>
        </TableHead>
        <TableBody>
          {shown.map((o) => (
            <TableRow key={o.from}>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{secondTime(o.from, zone)}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{o.lasts ? 'lasts' : secondTime(o.to, zone)}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>
                <span className={`word-${o.state}`}>{o.state}</span> {between(o.from, o.to)}
              </TableCell>
              <TableCell>
                {o.reasons.map((r) => (
                  <div key={r}>{r}</div>
                ))}
                {o.reasons.length === 0 && <span className="sub">explain it at its beginning</span>}
              </TableCell>
              <TableCell>
                {o.counts.map((c) => (
                  <div key={c.agreement}>
                    {c.name}: {c.classes.map((x) => `${x.class} ${x.ms === Date.parse(o.to) - Date.parse(o.from) ? between(o.from, o.to) : durationUp(x.ms)}`).join(', ')}
                  </div>
                ))}
              </TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>
                <button type="button" className="link" onClick={() => explain(o)} aria-label={`Explain ${shortTime(o.from, zone)}`}>
                  explain
                </button>{' '}
                <button type="button" className="link" onClick={() => near(o)} aria-label={`Look closer at ${shortTime(o.from, zone)}`}>
                  closer
                </button>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {outages.length > few && (
        <p className="sub">
          <button type="button" className="link" onClick={() => setAll(!all)}>
            {all ? 'the latest only' : `${outages.length - few} more`}
          </button>
        </p>
      )}
      {all && earlier > 0 && <p className="sub">{earlier} earlier ones are not listed; look closer to see them.</p>}
    </Box>
  )
}

type Point = Schemas['PointView']

/** The top of the scale that the curves of some lanes share: their highest, and the limit where that is near. */
function highest(lanes: Schemas['LaneView'][], limit: Schemas['Limit'] | undefined): number {
  let top = 0
  for (const l of lanes) for (const p of l.points) top = Math.max(top, p.p95 ?? p.mean ?? 0)
  const bound = limit?.degraded_above ?? limit?.failed_above
  return bound !== undefined && bound < 3 * top ? Math.max(top, bound) : top
}

/** The leading measure over the span: its mean as a line, its 95th percentile as a veil, the limit it is held to, and the top of the scale. */
function Curve({ lane, top, axis, unit, word, limit }: { lane: Schemas['LaneView']; top: number; axis: Axis; unit: string; word: string; limit: Schemas['Limit'] | undefined }) {
  const points = lane.points.filter((h) => h.mean !== null)
  if (points.length < 2 || top <= 0) return null
  const step = lane.step_ms
  const w = 1000
  const h = 20
  const x = (t: string) => ((Date.parse(t) + step / 2 - axis.from) / (axis.to - axis.from)) * w
  const y = (v: number) => h - 1 - (Math.min(v, top) / top) * (h - 2)
  // Silence breaks the line: nothing is drawn where nothing was measured.
  const gap = step || 3 * usual(points)
  const runs: Point[][] = []
  for (const p of points) {
    const run = runs[runs.length - 1]
    const before = run?.[run.length - 1]
    if (run && before && Date.parse(p.at) - Date.parse(before.at) <= gap) run.push(p)
    else runs.push([p])
  }
  const line = (run: Point[], f: (p: Point) => number) => run.map((p) => `${x(p.at).toFixed(1)},${y(f(p)).toFixed(1)}`).join(' ')
  const few = points.some((p) => p.count - p.failed < 100) ? ', some of fewer than 100 answers' : ''
  const each = step === 0 ? 'each measurement' : `mean of ${duration(step)} and 95th percentile${few}`
  const scale = `${top >= 100 ? top.toFixed(0) : top.toPrecision(3)} ${unit}`.trim()
  const bounds = [limit?.degraded_above, limit?.failed_above].filter((b): b is number => b !== undefined && b <= top)
  return (
    <span className="curve">
      <svg className="strip" viewBox={`0 0 ${w} ${h}`} height={h} preserveAspectRatio="none" role="img" aria-label={`${word}, ${each}; the scale goes to ${scale}${bounds.length ? `, the limit is ${bounds.join(' and ')} ${unit}` : ''}`}>
        <title>{`${word}, ${each}; the top is ${scale}`}</title>
        {bounds.map((b) => (
          <line key={b} x1="0" x2={w} y1={y(b)} y2={y(b)} stroke="var(--down)" strokeDasharray="6 4" strokeWidth="1" opacity="0.7" vectorEffect="non-scaling-stroke" />
        ))}
        {runs.map((run, i) => (
          <g key={i}>
            {step > 0 && <polyline points={line(run, (p) => p.p95 ?? p.mean ?? 0)} fill="none" stroke="var(--mui-palette-text-secondary)" opacity="0.35" strokeWidth="1" vectorEffect="non-scaling-stroke" />}
            <polyline points={line(run, (p) => p.mean ?? 0)} fill="none" stroke="var(--mui-palette-text-secondary)" strokeWidth="1" vectorEffect="non-scaling-stroke" />
          </g>
        ))}
      </svg>
      <span className="scale">{scale}</span>
    </span>
  )
}

/** The usual time between two points, ms. */
function usual(points: Point[]): number {
  const gaps = points
    .slice(1)
    .map((p, i) => Date.parse(p.at) - Date.parse(points[i]?.at ?? p.at))
    .sort((a, b) => a - b)
  return gaps[Math.floor(gaps.length / 2)] ?? 0
}
