import Box from '@mui/material/Box'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Link } from 'react-router'
import type { Listed, Schemas } from '../api/client'
import { useAccounts, useMay, useStanding } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip, classTimes, type Axis } from '../axis/strip'
import { HoldsNote } from '../notices/holds'
import { GroupBy, GroupHead, useParam } from '../parts/group-by'
import { sections } from '../parts/groups'
import { More, useFind } from '../parts/more'
import { OwnPeriod } from '../parts/own-period'
import { Awaited, NoAccount, Trouble } from '../parts/trouble'
import { aboutTime, duration, percent } from '../time/format'
import { useKeep, useSpan, useZone } from '../time/span'

/** How we stand against what we promised, and what needs someone now. */
export function StandingPage() {
  const [span] = useSpan()
  const [find, text, setText] = useFind()
  const standing = useStanding(span, find)
  const { zone } = useZone()
  const keep = useKeep()
  const sees = useMay()('see')
  const data = standing.data?.pages[0]
  const [by, setBy] = useParam('by')
  const [compare, setCompare] = useParam('compare')
  const list = [...new Map((standing.data?.pages ?? []).flatMap((p) => p.accounts).map((a) => [a.agreement, a])).values()] // one may move from page to page
  const earlier = useAccounts(list.map((a) => a.agreement), data?.span.before, compare !== '' && list.length > 0)
  const before = new Map((compare ? (earlier.data?.accounts ?? []) : []).map((a) => [a.agreement, a]))
  if (!standing.data || !data) return <Awaited error={standing.error} />
  const axis = axisOf(data.span)
  return (
    <div className={sees ? 'with-aside' : undefined}>
      <div>
        <Band span={data.span} />
        <Trouble error={standing.error} />
        {data.agreements === 0 ? (
          sees ? <Nothing services={data.services} /> : <p className="empty">Nothing was promised to you yet.</p>
        ) : (
          <>
            <Typography variant="h1" className="statement">{statement(data.summary)}</Typography>
            <p className="lead">{nextUp(data.summary, zone) ?? (sees && `${plural(data.services, 'service', 'services')}, ${plural(data.checks, 'check', 'checks')}.`)}</p>
            {sees && <HoldsNote />}
            {(data.agreements > 1 || text) && (
              <div className="head">
                <span className="sub" role="status">
                  {text ? `${data.found} of ${plural(data.agreements, 'agreement', 'agreements')} match` : plural(data.agreements, 'agreement', 'agreements')}
                </span>
                <span className="actions">
                  {sees && (
                    <button type="button" className="link" aria-pressed={compare !== ''} onClick={() => setCompare(compare ? '' : 'before')}>
                      {compare ? 'without the period before' : 'compare with the period before'}
                    </button>
                  )}
                  <GroupBy value={by} change={setBy} of={Object.keys(ways)} />
                  {(data.agreements > 20 || text) && <TextField placeholder="name, customer or service" value={text} sx={{ width: 240 }} slotProps={{ htmlInput: { 'aria-label': 'Filter', maxLength: 80 } }} onChange={(e) => setText(e.target.value)} />}
                </span>
              </div>
            )}
            <div className="axis-row column-heads" aria-hidden>
              <span>Agreement, most urgent first</span>
              <span>The period, and what is planned</span>
              <span className="pair">
                <span>Allowance left</span>
                <span>{axis.now < axis.to ? 'So far' : 'Availability'}</span>
              </span>
            </div>
            {sections(list, ways[by], [...new Set(list.flatMap((a) => ways[by]?.(a) ?? []))]).map((g) => (
              <section key={g.name} aria-label={by ? g.name || 'internal' : undefined}>
                {by && <GroupHead name={g.name} none={by === 'customer' ? 'internal' : `no ${by}`} count={g.items.length} says={worst(g.items)} />}
                {g.items.map((a) => (
                  <Entry key={a.agreement} account={a} before={compare ? before.get(a.agreement) : undefined} axis={axis} sees={sees} to={keep(sees ? `/services/${a.service}` : `/promised/${a.agreement}`)} />
                ))}
              </section>
            ))}
            {data.found === 0 && (
              <div className="empty">
                <p>No agreement matches. Take a word away.</p>
              </div>
            )}
            <More shown={list.length} of={data.found} busy={standing.isFetchingNextPage} onMore={() => void standing.fetchNextPage()} />
            <Legend />
          </>
        )}
      </div>
      {sees && <Needs needs={data.needs} left={data.needs_left} reports={data.reports} services={data.services} />}
    </div>
  )
}

const ways: Record<string, (a: Listed) => string[]> = { customer: (a) => [a.customer], contract: (a) => [a.contract ?? ''], service: (a) => [a.service_name] }

/** The worst of a group, in a few words. */
function worst(list: Listed[]): string | undefined {
  const count = (word: Listed['word']) => list.filter((a) => a.word === word).length
  const said = (['missed', 'at risk'] as const).filter((word) => count(word) > 0).map((word) => `${count(word)} ${word}`)
  return said.length ? said.join(', ') : undefined
}

function Entry({ account: a, before, axis, to, sees }: { account: Listed; before?: Listed; axis: Axis; to: string; sees: boolean }) {
  const f = a.figures
  const keep = useKeep()
  return (
    <Link to={a.fault && sees ? keep(`/agreements/${a.agreement}`) : to} className="entry axis-row" data-agreement={a.agreement}>
      <span>
        <div className="name">{a.name}</div>
        <div className="sub">
          {a.customer || 'internal'} · {a.target_percent} %{!a.fault && f.credit_percent !== '0' && ` · credit ${f.final ? '' : 'so far '}${f.credit_percent} %`}
        </div>
        <OwnPeriod of={a} axis={axis} />
        {a.pace?.coverage_lost && <div className="sub word-insufficient">too little was measured already: it will end without a verdict</div>}
        {before && !before.fault && before.period.name !== a.period.name && (
          <div className="sub" data-before={before.word}>
            before: {percent(before.figures.availability_percent)} {before.word}
          </div>
        )}
      </span>
      {a.fault ? (
        <NoAccount why={a.fault} />
      ) : (
        <>
          <Strip zooms columns={a.strip} total={classTimes(f.total_ms)} planned={a.planned} axis={axis} label={a.name} />
          <span className="pair">
            <b className={f.allowance_left_ms < 0 ? 'word-down' : undefined}>{duration(f.allowance_left_ms)}</b>
            <b>{percent(f.availability_percent)}</b>
            <span>of {duration(f.allowance_ms)}</span>
            <span className={`word-${a.word.replace(' ', '-')}`}>{a.word}</span>
          </span>
        </>
      )}
    </Link>
  )
}

function plural(n: number, one: string, many: string) {
  return `${n} ${n === 1 ? one : many}`
}

type Summary = Schemas['Summary']

/** The whole standing in one sentence: periods that are over, and those that run. */
function statement({ over, running, faulty }: Summary): string {
  const parts: string[] = []
  if (over.agreements > 0) {
    parts.push(`${over.met} of ${plural(over.agreements, 'agreement was', 'agreements were')} met`)
    if (over.missed) parts.push(`${over.missed} missed`)
  }
  const { missed, at_risk: risk, on_track: track } = running
  if (missed) parts.push(over.agreements ? `${missed} cannot be met any more` : `${missed} of ${plural(running.agreements, 'agreement', 'agreements')} cannot be met any more`)
  if (risk) parts.push(`${risk} will be missed at this pace`)
  if (track) parts.push(`${plural(track, 'is', 'are')} on track`)
  const rest = over.agreements + running.agreements - over.met - over.missed - missed - risk - track
  if (rest) parts.push(`of ${rest} too little is known`)
  if (faulty) parts.push(`${faulty} cannot be accounted`)
  const text = parts.join(', ')
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}.`
}

/** Which allowance runs out next, and when. */
function nextUp({ next }: Summary, zone: string): string | undefined {
  if (!next) return undefined
  const pace = next.why === 'week' ? 'of the last 7 days' : 'of the period so far'
  return `Next: ${next.name} runs out of allowance on ${aboutTime(next.at, zone)} at the pace ${pace}.`
}

function Nothing({ services }: { services: number }) {
  const keep = useKeep()
  return (
    <div className="empty">
      <Typography variant="h1">{services === 0 ? 'Nothing is measured yet' : 'Nothing is promised yet'}</Typography>
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

const day = 86_400_000

/** The page on which a need can be seen to. */
function where(n: Need): string {
  if (n.kind === 'agent') return '/set-up'
  if (n.kind === 'request') return `/calendar?request=${n.id}`
  if (n.kind === 'adjustment') return `/close/${n.id}`
  if (n.kind === 'objection') return `/reports/${n.id}`
  if (n.kind === 'notices') return `/notices/deliveries?kind=${n.id}`
  if (n.kind === 'allowance') return `/agreements/${n.id}`
  if (n.kind === 'fault') return n.service ? `/services/${n.service}` : `/agreements/${n.id}`
  return `/services/${n.service ?? n.id}?at=now`
}

const kindsOfNeed: Record<Need['kind'], { words: string; look: string; bad: boolean }> = {
  fault: { words: 'Cannot be told', look: 'look', bad: true },
  down: { words: 'Down', look: 'explain', bad: true },
  degraded: { words: 'Degraded', look: 'explain', bad: false },
  notices: { words: 'Notices', look: 'look', bad: true },
  allowance: { words: 'Allowances', look: 'look', bad: false },
  check: { words: 'Checks that inform', look: 'explain', bad: false },
  agent: { words: 'Where we measure from', look: 'look', bad: false },
  request: { words: 'Decisions', look: 'decide', bad: false },
  adjustment: { words: 'Adjustments', look: 'decide', bad: false },
  objection: { words: 'Objections', look: 'answer', bad: false },
  'never-good': { words: 'Never good', look: 'explain', bad: false },
  unmeasured: { words: 'Not measured', look: 'look', bad: false },
}

function Needs({ needs, left, reports: due, services }: { needs: Need[]; left: number; reports: Schemas['ReportsDue']; services: number }) {
  const may = useMay()('see')
  const keep = useKeep()
  const groups = [...new Set(needs.map((n) => n.kind))]
  return (
    <Box component="aside" className="first-on-phone" sx={{ paddingTop: '26px' }} aria-label="Needs you">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Needs you</Typography>
      {needs.length === 0 && due.count === 0 && (
        <p className="sub">{services === 0 ? 'Nothing yet: no service is described.' : 'Nothing. All services are measured and up, all locations measure, all reports are published.'}</p>
      )}
      {groups.map((kind) => (
        <section key={kind} aria-label={kindsOfNeed[kind].words}>
          <Typography variant="h3" className="need-kind">{kindsOfNeed[kind].words}</Typography>
          <ul className="needs">
            {needs
              .filter((n) => n.kind === kind)
              .map((n) => (
                <li key={n.kind + n.id} className={kindsOfNeed[kind].bad ? 'down' : 'quiet'} data-need={n.kind}>
                  <div className="name">
                    {n.subject}
                    {n.kind === 'allowance' || n.kind === 'request' || n.kind === 'adjustment' || n.kind === 'objection' ? ': ' : ' '}
                    {n.text}
                  </div>
                  {n.with && <div className="sub">and with it {n.with.length > 3 ? `${n.with.slice(0, 3).join(', ')} and ${n.with.length - 3} more` : n.with.join(', ')}</div>}
                  <div className="sub">
                    {[n.severity, n.ms && `for ${duration(n.ms > 2 * day ? n.ms - (n.ms % day) : n.ms)}`, n.incident && (n.acknowledged_by ? `${n.acknowledged_by} is on it` : 'nobody is on it')].filter(Boolean).join(' · ')}
                  </div>
                  <Link className="link" to={keep(where(n))} aria-label={`${kindsOfNeed[kind].look}: ${n.subject} ${n.text}`}>
                    {kindsOfNeed[kind].look}
                  </Link>
                  {n.incident && (
                    <>
                      {' · '}
                      <Link className="link" to={keep(`/incidents/${n.incident}`)} aria-label={`incident ${n.incident}: ${n.subject} ${n.text}`}>
                        incident {n.incident}
                      </Link>
                    </>
                  )}
                </li>
              ))}
          </ul>
        </section>
      ))}
      <Box component="ul" className="needs" sx={{ marginTop: '14px' }}>
        {left > 0 && (
          <li className="quiet" data-need="more">
            <div className="name">and {left} more</div>
            <Link className="link" to={keep('/services?sort=state')}>
              services by state
            </Link>
          </li>
        )}
        {due.count > 0 && (
          <li data-need="report">
            <div className="name">
              {due.words ? `${due.words}: ` : ''}
              {plural(due.count, 'report', 'reports')} to publish
            </div>
            <div className="sub">{due.subjects.join(', ')}{due.count > due.subjects.length ? ' …' : ''}</div>
            <Link className="link" to={may ? '/close' : keep('/reports')}>
              {may ? 'close' : 'review'}
            </Link>
          </li>
        )}
      </Box>
    </Box>
  )
}
