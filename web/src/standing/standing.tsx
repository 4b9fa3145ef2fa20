import { Link } from 'react-router'
import type { Account, Schemas } from '../api/client'
import { useStanding } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip, type Axis } from '../axis/strip'
import { OwnPeriod } from '../parts/own-period'
import { NoAccount, Trouble } from '../parts/trouble'
import { aboutTime, duration, percent } from '../time/format'
import { useKeep, usePeriod, useZone } from '../time/period'
import { standingWord } from './word'

/** How we stand against what we promised, and what needs someone now. */
export function StandingPage() {
  const [period] = usePeriod()
  const standing = useStanding(period)
  const { zone } = useZone()
  const keep = useKeep()
  const data = standing.data
  if (!data) return <Trouble error={standing.error} />
  const axis = axisOf(data.period)
  return (
    <div className="with-aside">
      <div>
        <Band period={data.period} />
        <Trouble error={standing.error} />
        {data.accounts.length === 0 ? (
          <Nothing services={data.services} />
        ) : (
          <>
            <h1 className="statement">{statement(data.accounts)}</h1>
            <p className="lead">{nextUp(data.accounts, zone) ?? `${data.services} services, ${data.checks} checks.`}</p>
            <div className="axis-row column-heads" aria-hidden>
              <span>Agreement, most urgent first</span>
              <span>The period, and what is planned</span>
              <span className="pair">
                <span>Allowance left</span>
                <span>{axis.now < axis.to ? 'So far' : 'Availability'}</span>
              </span>
            </div>
            {data.accounts.map((a) => (
              <Entry key={a.agreement} account={a} axis={axis} to={keep(`/services/${a.service}`)} />
            ))}
            <Legend />
          </>
        )}
      </div>
      <Needs needs={data.needs} />
    </div>
  )
}

function Entry({ account: a, axis, to }: { account: Account; axis: Axis; to: string }) {
  const word = standingWord(a)
  const f = a.figures
  const keep = useKeep()
  return (
    <Link to={a.fault ? keep(`/agreements/${a.agreement}`) : to} className="entry axis-row" data-agreement={a.agreement}>
      <span>
        <div className="name">{a.name}</div>
        <div className="sub">
          {a.customer || 'internal'} · {a.target_percent} %
        </div>
        <OwnPeriod of={a} axis={axis} />
      </span>
      {a.fault ? (
        <NoAccount why={a.fault} />
      ) : (
        <>
          <Strip intervals={a.intervals} planned={a.planned} axis={axis} label={a.name} />
          <span className="pair">
            <b className={f.allowance_left_ms < 0 ? 'word-down' : undefined}>{duration(f.allowance_left_ms)}</b>
            <b>{percent(f.availability_percent)}</b>
            <span>of {duration(f.allowance_ms)}</span>
            <span className={`word-${word.replace(' ', '-')}`}>{word}</span>
          </span>
        </>
      )}
    </Link>
  )
}

function plural(n: number, one: string, many: string) {
  return `${n} ${n === 1 ? one : many}`
}

/** The whole standing in one sentence: periods that are over, and those that run. */
function statement(accounts: Account[]): string {
  const over = accounts.filter((a) => !a.fault && a.figures.final)
  const running = accounts.filter((a) => !a.fault && !a.figures.final)
  const count = (list: Account[], w: string) => list.filter((a) => standingWord(a) === w).length
  const parts: string[] = []
  if (over.length > 0) {
    parts.push(`${count(over, 'met')} of ${plural(over.length, 'agreement was', 'agreements were')} met`)
    if (count(over, 'missed')) parts.push(`${count(over, 'missed')} missed`)
  }
  const missed = count(running, 'missed')
  const [risk, track] = [count(running, 'at risk'), count(running, 'on track')]
  if (missed) parts.push(over.length ? `${missed} cannot be met any more` : `${missed} of ${plural(running.length, 'agreement', 'agreements')} cannot be met any more`)
  if (risk) parts.push(`${risk} will be missed at this pace`)
  if (track) parts.push(`${plural(track, 'is', 'are')} on track`)
  const rest = over.length + running.length - count(over, 'met') - count(over, 'missed') - missed - risk - track
  if (rest) parts.push(`of ${rest} too little is known`)
  const faulty = accounts.length - over.length - running.length
  if (faulty) parts.push(`${faulty} cannot be accounted`)
  const text = parts.join(', ')
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}.`
}

/** Which allowance runs out next, and when. */
function nextUp(accounts: Account[], zone: string): string | undefined {
  const next = accounts.filter((a) => a.pace?.at_risk && a.pace.runs_out_at).sort((a, b) => Date.parse(a.pace?.runs_out_at ?? '') - Date.parse(b.pace?.runs_out_at ?? ''))[0]
  if (!next?.pace?.runs_out_at) return undefined
  const pace = next.pace.runs_out_why === 'week' ? 'of the last 7 days' : 'of the period so far'
  return `Next: ${next.name} runs out of allowance on ${aboutTime(next.pace.runs_out_at, zone)} at the pace ${pace}.`
}

function Nothing({ services }: { services: number }) {
  const keep = useKeep()
  return (
    <div className="empty">
      <h1>{services === 0 ? 'Nothing is measured yet' : 'Nothing is promised yet'}</h1>
      {services === 0 ? (
        <p>
          First <Link to={keep('/set-up')}>add a location</Link> to measure from: one command starts an agent there. Then <Link to={keep('/services/new')}>describe a service</Link> by its address.
        </p>
      ) : (
        <p>
          Your services are measured. <Link to={keep('/agreements/new')}>Write down what was promised</Link>, and this page says how you stand against it.
        </p>
      )}
    </div>
  )
}

type Need = Schemas['NeedView']

/** The page on which a need can be seen to. */
function where(n: Need): string {
  if (n.kind === 'agent') return '/set-up'
  if (n.kind === 'fault') return n.service ? `/services/${n.service}` : `/agreements/${n.id}`
  return `/services/${n.id}?at=now`
}

function Needs({ needs }: { needs: Need[] }) {
  const keep = useKeep()
  const due = needs.filter((n) => n.kind === 'report')
  const others = needs.filter((n) => n.kind !== 'report')
  return (
    <aside style={{ paddingTop: 26 }} aria-label="Needs you">
      <h2>Needs you</h2>
      {needs.length === 0 && <p className="sub">Nothing. All services are up, all locations measure, all reports are published.</p>}
      <ul className="needs">
        {others.map((n) => (
          <li key={n.kind + n.id} className={n.kind === 'down' || n.kind === 'fault' ? 'down' : 'quiet'} data-need={n.kind}>
            <div className="name">
              {n.subject} {n.text}
            </div>
            <div className="sub">{n.ms ? `for ${duration(n.ms)}` : ''}</div>
            <Link className="link" to={keep(where(n))} style={{ color: 'var(--mui-palette-primary-main)' }}>
              {n.kind === 'agent' || n.kind === 'fault' ? 'look' : 'explain'}
            </Link>
          </li>
        ))}
        {due.length > 0 && due[0] && (
          <li data-need="report">
            <div className="name">
              {due.every((n) => n.words === due[0]?.words) ? `${due[0].words}: ` : ''}
              {plural(due.length, 'report', 'reports')} to publish
            </div>
            <div className="sub">{due.slice(0, 3).map((n) => n.subject).join(', ')}{due.length > 3 ? ' …' : ''}</div>
            <Link className="link" to={keep('/reports')} style={{ color: 'var(--mui-palette-primary-main)' }}>
              review
            </Link>
          </li>
        )}
      </ul>
    </aside>
  )
}
