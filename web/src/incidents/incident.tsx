import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { Link, useParams } from 'react-router'
import { axisOf } from '../axis/band'
import { AxisHead } from '../axis/head'
import { Legend, Strip } from '../axis/strip'
import { counted } from '../parts/counted'
import { useParam } from '../parts/group-by'
import { Awaited, Trouble } from '../parts/trouble'
import { FindingsView } from '../services/findings'
import { aboutTime, clock, duration, durationUp, fullTime, shortDay, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { Told } from './told'
import { useIncident, type Detail } from './queries'
import { Work } from './work'

/** One incident: what broke, who is hit, what it costs, who is on it. */
export function IncidentPage() {
  const id = Number(useParams().id)
  const [wide, setWide] = useParam('wide')
  const wider = Math.min(6, Math.max(0, Math.round(Number(wide)) || 0))
  const incident = useIncident(Number.isInteger(id) && id > 0 ? id : 0, wider)
  const { zone } = useZone()
  const data = incident.data
  if (!data) return <Awaited error={incident.error} />
  const i = data.incident
  const axis = axisOf(data.span)
  return (
    <div className="with-aside" data-incident={i.id}>
      <div>
        <Head data={data} />
        <Trouble error={incident.error} />
        <Work key={i.id} data={data} />
        {data.strips.length > 0 && (
          <section aria-label="What it concerns">
            <div className="axis-row">
              <span className="sub">
                {shortTime(axis.from, zone)} – {shortTime(axis.to, zone)}, {zone}
                <br />
                <button type="button" className="link" disabled={wider === 6} onClick={() => setWide(String(wider + 1))}>
                  wider
                </button>
                {' · '}
                <button type="button" className="link" disabled={wider === 0} onClick={() => setWide(wider > 1 ? String(wider - 1) : '')}>
                  closer
                </button>
              </span>
              <AxisHead axis={axis} zone={zone} />
              <span />
            </div>
            {data.strips.map((s) => (
              <Lane key={s.service} strip={s} axis={axis} own={i.id} began={i.began_at} />
            ))}
            <Legend only={['up', 'degraded', 'down', 'unmeasured']} />
          </section>
        )}
        <Told incident={i.id} over={i.resolved_at !== undefined} service={i.service} />
        <Timeline data={data} />
        <Together of={data.together} />
        <Evidence data={data} />
        <Files data={data} />
      </div>
      <aside aria-label="What it costs, and what was like it">
        <OnIt data={data} />
        <Costs data={data} />
        <Like data={data} />
      </aside>
    </div>
  )
}

function Head({ data }: { data: Detail }) {
  const { zone } = useZone()
  const keep = useKeep()
  const i = data.incident
  return (
    <div>
      <Typography variant="h1" className="statement">{i.headline}</Typography>
      <div className="sub">
        Incident {i.id} · {i.severity} · began {fullTime(i.began_at, zone)} {zone}
        {Date.parse(i.known_at) - Date.parse(i.began_at) > 60_000 && <> · known {durationUp(Date.parse(i.known_at) - Date.parse(i.began_at))} later</>}
        {data.owner && ` · ${data.owner}`}
        {data.like.length > 0 && ` · ${data.like.length === 5 ? 'at least five' : counted(data.like.length, 'incident')} like it before`}
        {i.service && (
          <>
            {' · '}
            <Link to={keep(`/services/${i.service}?at=${encodeURIComponent(i.began_at)}`)}>explain</Link>
          </>
        )}
        {data.runbook && (
          <>
            {' · '}
            <a href={data.runbook} rel="noreferrer">
              runbook
            </a>
          </>
        )}
      </div>
      {i.cause !== undefined && (
        <Alert severity="info" role="status">
          It follows from <Link to={keep(`/incidents/${i.cause}`)}>{i.cause_name}</Link>
          {i.cause_by ? `, as ${i.cause_by} decided.` : ', which it needs.'} What is done about that is done there.
        </Alert>
      )}
      {i.planned && (
        <Alert severity="info" role="status">
          It began in planned work, {i.planned.name}, {i.quiet ? `which ends ${shortTime(i.planned.until, zone)} ${zone}. Until then it disturbs nobody.` : `which ended ${shortTime(i.planned.until, zone)} ${zone}.`}
        </Alert>
      )}
    </div>
  )
}

function Lane({ strip: s, axis, own, began }: { strip: Detail['strips'][number]; axis: ReturnType<typeof axisOf>; own: number; began: string }) {
  const keep = useKeep()
  return (
    <div className="entry axis-row" data-lane={s.service}>
      <span>
        <Link className="name" to={keep(`/services/${s.service}?at=${encodeURIComponent(began)}`)}>
          {s.name}
        </Link>
        <div className="sub">{s.role}</div>
      </span>
      <Strip intervals={s.strip} axis={axis} label={`${s.name}, ${s.role}`} />
      <span className="sub">{s.incident && s.incident !== own ? <Link to={keep(`/incidents/${s.incident}`)}>incident {s.incident}</Link> : ''}</span>
    </div>
  )
}

const lines = {
  listStyle: 'none',
  m: 0,
  p: 0,
  '& > li': { display: 'grid', gridTemplateColumns: { xs: '1fr', sm: '132px minmax(0, 1fr)' }, columnGap: '12px', py: '3px', lineHeight: 1.35 },
  '& time': { color: 'text.secondary', fontVariantNumeric: 'tabular-nums', fontSize: '0.85rem', textAlign: { sm: 'right' } },
  '& span': { overflowWrap: 'anywhere', whiteSpace: 'pre-line' },
}

/** What happened, line by line; a new day says so. */
function Timeline({ data }: { data: Detail }) {
  const { zone } = useZone()
  const keep = useKeep()
  let day = ''
  return (
    <section aria-label="What happened">
      <Typography variant="h2" className="group">What happened</Typography>
      <Box component="ol" sx={lines}>
        {data.timeline.map((h, n) => {
          const own = shortDay(h.at, zone)
          const fresh = own !== day
          day = own
          return (
            <li key={n} data-happened={h.kind}>
              <time dateTime={h.at}>{fresh ? <b>{own}</b> : null} {clock(h.at, zone)}</time>
              <span className={h.bad ? 'word-down' : undefined}>
                {h.text}
                {h.address && (
                  <>
                    {' '}
                    <a href={h.address} rel="noreferrer noopener">
                      {h.address}
                    </a>
                  </>
                )}
                {h.public && <b className="sub"> public</b>}
                {h.service && h.bad && (
                  <>
                    {' '}
                    <Link to={keep(`/services/${h.service}?at=${encodeURIComponent(h.at)}`)} aria-label={`explain: ${h.text}, ${clock(h.at, zone)}`}>
                      explain
                    </Link>
                  </>
                )}
              </span>
            </li>
          )
        })}
      </Box>
    </section>
  )
}

const moments = { onset: 'As it was believed', recovery: 'As it was over' }

/** What failed with it, in which order, and what they have in common. */
function Together({ of }: { of: Detail['together'] }) {
  const keep = useKeep()
  if (of.others.length === 0) return null
  return (
    <section aria-label="Failed together" data-together={of.others.length}>
      <Typography variant="h2" className="group">
        Failed together
      </Typography>
      <p className="close-by">{of.order}</p>
      {of.shared.map((s) => (
        <p key={s.kind + s.what} className="close-by" data-shared={s.kind}>
          <b>{s.words}</b>
        </p>
      ))}
      <p className="sub close-by">
        {of.shared.length === 0 && 'By what was measured as they began, they have nothing in common. '}
        {of.others.map((o, n) => (
          <span key={o.id}>
            {n > 0 && ', '}
            <Link to={keep(`/incidents/${o.id}`)}>
              {o.name}, incident {o.id}
            </Link>
          </span>
        ))}
      </p>
    </section>
  )
}

function Evidence({ data }: { data: Detail }) {
  const all = data.evidence
  if (all.length === 0) return null
  return (
    <section aria-label="Evidence">
      <Typography variant="h2" className="group">
        Evidence <span className="sub">measured at once, beside the schedule; in no account</span>
      </Typography>
      {(['onset', 'recovery'] as const).map((m) => {
        const of = all.filter((e) => e.moment === m)
        if (of.length === 0) return null
        const well = of.filter((e) => e.state === 'done' && e.outcome === 'ok')
        return (
          <Box key={m} sx={{ mb: 2 }}>
            <Typography variant="h3">
              {moments[m]} <span className="sub">{well.length} of {of.length} well</span>
            </Typography>
            <Table size="small">
              <TableHead>
                <TableRow>
                  <TableCell>What</TableCell>
                  <TableCell>From</TableCell>
                  <TableCell>Seen</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {of.map((e, n) => (
                  <TableRow key={n} data-evidence={e.kind} data-state={e.state}>
                    <TableCell>{e.label}</TableCell>
                    <TableCell>{e.location}</TableCell>
                    <TableCell>
                      {e.state === 'waiting' ? 'being measured' : e.state === 'lost' ? 'nothing came back' : <b className={e.outcome === 'ok' ? 'word-up' : e.outcome === 'degraded' ? 'word-degraded' : 'word-down'}>{e.outcome}</b>} <span className="sub">{[e.detail, way(e)].filter(Boolean).join('; ')}</span>
                      {e.findings && (
                        <details>
                          <summary className="sub">all that was seen</summary>
                          <FindingsView findings={e.findings} />
                        </details>
                      )}
                    </TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
          </Box>
        )
      })}
    </section>
  )
}

/** How far a path went. */
function way({ findings }: Detail['evidence'][number]): string {
  const t = findings?.trace
  if (!t) return ''
  return t.reached ? `${t.target} reached in ${counted(t.hops.length, 'hop')}` : (t.end ?? 'the target was not reached')
}

function Files({ data }: { data: Detail }) {
  const { zone } = useZone()
  if (data.files.length === 0) return null
  return (
    <section aria-label="Files">
      <Typography variant="h2" className="group">Files</Typography>
      <Box component="ul" sx={{ m: 0, pl: 2 }}>
        {data.files.map((f) => (
          <li key={f.id}>
            <a href={`/api/v1/incidents/${data.incident.id}/files/${f.id}`} download>
              {f.name}
            </a>{' '}
            <span className="sub">
              {Math.max(1, Math.round(f.size / 1024))} kB · {f.by} · {shortTime(f.at, zone)}
            </span>
          </li>
        ))}
      </Box>
    </section>
  )
}

function OnIt({ data }: { data: Detail }) {
  const { zone } = useZone()
  const i = data.incident
  return (
    <section aria-label="On it">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>On it</Typography>
      <p className="sub" role="status" data-on={i.phase}>
        {i.acknowledged ? (
          <>
            <b>{i.acknowledged.by}</b> since {clock(i.acknowledged.at, zone)}
            {i.acknowledged.until && `, until ${shortTime(i.acknowledged.until, zone)}`}
          </>
        ) : i.phase === 'open' ? (
          'nobody yet'
        ) : i.review ? (
          <>reviewed by {i.review.by}</>
        ) : i.resolved_by ? (
          <>resolved by {i.resolved_by}</>
        ) : (
          'over by itself; not reviewed'
        )}
        {i.assignee_name && ` · given to ${i.assignee_name}`}
      </p>
      {i.review && (
        <div data-review={i.review.class}>
          <b>{i.review.class}</b>: {i.review.cause}
          {i.review.action && <div className="sub">Done about it: {i.review.action}</div>}
        </div>
      )}
    </section>
  )
}

function Costs({ data }: { data: Detail }) {
  const { zone } = useZone()
  const keep = useKeep()
  const i = data.incident
  return (
    <section aria-label="What it costs">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>{i.ended_at ? 'What it cost' : 'What it costs so far'}</Typography>
      {data.costs.length === 0 && <p className="sub">No agreement is touched by it.</p>}
      {data.costs.map((c) => (
        <Box key={c.agreement} sx={{ mb: 1.5, lineHeight: 1.3 }} data-cost={c.agreement}>
          <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1 }}>
            <Link className="name" to={keep(`/agreements/${c.agreement}`)}>
              {c.name}
            </Link>
            {!c.fault && <b className={c.allowance_left_ms < 0 ? 'word-down' : undefined}>{duration(c.allowance_left_ms)}</b>}
          </Box>
          <div className="sub">
            {c.customer || 'internal'} · {c.target_percent} % of {c.period.words}
          </div>
          <div className="sub">
            {c.words}
            {c.classes.filter((k) => k.class !== 'down' && k.class !== 'up').map((k) => `; ${durationUp(k.ms)} ${k.class === 'outside' ? 'outside service hours' : k.class}`)}
            {c.missed && Number(c.credit_percent) > 0 && `; credit ${c.credit_percent} %`}
          </div>
          {c.ends_at && <div className="sub word-down">ends {aboutTime(c.ends_at, zone)} if this goes on</div>}
        </Box>
      ))}
      {data.costs_left > 0 && <p className="sub">and {counted(data.costs_left, 'more agreement')}</p>}
    </section>
  )
}

function Like({ data }: { data: Detail }) {
  const { zone } = useZone()
  const keep = useKeep()
  return (
    <section aria-label="Like this before">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Like this before</Typography>
      {data.like.length === 0 && <p className="sub">Nothing like it is known.</p>}
      <ul className="needs">
        {data.like.map((l) => (
          <li key={l.id} data-like={l.id}>
            <Link className="name" to={keep(`/incidents/${l.id}`)}>
              {shortDay(l.began_at, zone)}, {l.why && `${l.name}, `}
              {durationUp(l.lasted_ms)}
            </Link>
            {l.why && <div className="sub">{l.why}</div>}
            <div className="sub">{l.review ? `${l.review.cause} ${l.review.action}` : `${l.worst}; ${l.resolved_by ? `resolved by ${l.resolved_by}` : 'over by itself'}, not reviewed`}</div>
          </li>
        ))}
      </ul>
    </section>
  )
}
