import Typography from '@mui/material/Typography'
import { Link, useParams } from 'react-router'
import { useAccount, usePeriods, useReports } from '../api/queries'
import { Legend, Strip } from '../axis/strip'
import { Stands } from '../parts/stands'
import { Awaited, NoAccount, Trouble } from '../parts/trouble'
import { durationUp, percent, shortTime } from '../time/format'
import { useKeep, useSpan, useZone } from '../time/span'
import { useNotes } from '../incidents/queries'

/** One agreement as its customer sees it: the present period, those before, and their reports. */
export function Promised() {
  const { id = '' } = useParams()
  const [span] = useSpan()
  const account = useAccount(id, span)
  const periods = usePeriods(id, 12)
  const reports = useReports()
  const keep = useKeep()
  const a = account.data
  if (!a) return <Awaited error={account.error} />
  const report = (name: string) => (reports.data ?? []).filter((r) => r.agreement === id && r.period === name).sort((x, y) => y.number - x.number)[0]
  const band = { from: Date.parse(a.period.from), to: Date.parse(a.period.to), now: Date.parse(a.as_of) }
  return (
    <>
      <div className="head">
        <div>
          <Typography variant="h1">{a.name}</Typography>
          <div className="sub">
            {a.service_name} · {a.target_percent} % of {a.period.words} ({a.timezone}) · <Link to={keep('/')}>all that was promised</Link>
          </div>
        </div>
      </div>
      {a.fault ? (
        <NoAccount why={a.fault} />
      ) : (
        <>
          <p className="statement">
            {band.now < band.to ? 'So far' : 'In all'} {percent(a.figures.availability_percent)} available, {a.figures.balance.used} down, {a.figures.allowance_left_ms < 0 ? `${durationUp(-a.figures.allowance_left_ms)} more than allowed` : `${a.figures.balance.left} of ${a.figures.balance.allowed} allowance left`}
            .
          </p>
          <Stands of={a.stands} zone={a.timezone} />
          <Strip intervals={a.intervals} planned={a.planned} axis={band} label={a.period.words} />
        </>
      )}
      <Notes agreement={id} />
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>The periods before</Typography>
      <Trouble error={periods.error} />
      {(periods.data?.items ?? []).slice(1).map((p) => {
        const axis = { from: Date.parse(p.span.from), to: Date.parse(p.span.to), now: Date.parse(p.span.to) }
        const r = report(p.period)
        return (
          <div key={p.period} className="entry axis-row" data-period={p.period}>
            <span>
              <div className="name">{p.words}</div>
              <div className="sub">{r ? <Link to={keep(`/reports/${r.id}`)}>report {r.number > 1 ? r.number : ''}</Link> : 'no report'}</div>
            </span>
            <Strip intervals={p.intervals} axis={axis} label={p.words} />
            <span className="pair">
              <b>{durationUp(p.figures.downtime_ms)}</b>
              <b>{percent(p.figures.availability_percent)}</b>
              <span>down</span>
              <span className={`word-${p.figures.verdict}`}>{p.figures.verdict.replace('-', ' ')}</span>
            </span>
          </div>
        )
      })}
      <Legend />
    </>
  )
}

/** What was written for those it was promised to, about trouble. */
function Notes({ agreement }: { agreement: string }) {
  const { zone } = useZone()
  const notes = useNotes(agreement)
  if (!notes.data?.length) return <Trouble error={notes.error} />
  return (
    <section aria-label="What was written about trouble">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>What was written about trouble</Typography>
      {notes.data.map((n) => (
        <p key={n.at + n.text} className="sub" data-note>
          <b>
            {shortTime(n.at, zone)} {zone}
          </b>{' '}
          ({n.worst} since {shortTime(n.began_at, zone)}
          {n.ended_at ? `, over ${shortTime(n.ended_at, zone)}` : ', not over'}): {n.text}
        </p>
      ))}
    </section>
  )
}
