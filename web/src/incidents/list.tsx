import Button from '@mui/material/Button'
import Box from '@mui/material/Box'
import Stack from '@mui/material/Stack'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Link } from 'react-router'
import { useMe, useServices, useStrips } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Strip, type Axis } from '../axis/strip'
import { Choice } from '../parts/choice'
import { counted } from '../parts/counted'
import { useParam } from '../parts/group-by'
import { useFind } from '../parts/more'
import { Pick } from '../parts/pick'
import { Awaited, Trouble } from '../parts/trouble'
import { durationUp, shortTime } from '../time/format'
import { useKeep, useSpan, useZone } from '../time/span'
import { useIncidents, type Incident } from './queries'

/** What is wrong now, and what was: each on the band's axis, with what follows it. */
export function IncidentList() {
  const [span] = useSpan()
  const band = useStrips([], span)
  const [find, text, setText] = useFind()
  const [severity, setSeverity] = useParam('severity')
  const [service, setService] = useParam('service')
  const [review, setReview] = useParam('review')
  const [whose, setWhose] = useParam('whose')
  const me = useMe().data
  const services = useServices()
  const filter = { find, severity, service, review, mine: whose === 'mine' ? (me?.id ?? '') : '' }
  const shown = band.data?.span
  const open = useIncidents(filter, true)
  const over = useIncidents(filter, false, shown?.from, shown?.to)
  const now = open.data?.pages.flatMap((p) => p.items)
  if (!shown || !now) return <Awaited error={open.error ?? band.error} />
  const axis = axisOf(shown)
  const past = over.data?.pages.flatMap((p) => p.items) ?? []
  const narrowed = Boolean(text || severity || service || review || whose)
  return (
    <div>
      <Band span={shown} />
      <Trouble error={open.error ?? over.error} />
      <Typography variant="h1" className="statement">{statement(now, open.data?.pages[0]?.open ?? 0, narrowed)}</Typography>
      <Stack direction="row" sx={{ flexWrap: 'wrap', gap: 1.5, alignItems: 'center', mt: 2, mb: 2 }}>
        <TextField label="Search" placeholder="name, note or review" value={text} sx={{ width: 220 }} slotProps={{ htmlInput: { maxLength: 200 }, inputLabel: { shrink: true } }} onChange={(e) => setText(e.target.value)} />
        <Choice label="Severity" value={severity} change={setSeverity} of={{ '': 'any', critical: 'critical', major: 'major', minor: 'minor' }} />
        <Choice label="Review" value={review} change={setReview} of={{ '': 'any', false: 'not reviewed', true: 'reviewed' }} />
        <Choice label="Whose" value={whose} change={setWhose} of={{ '': 'anybody’s', mine: 'mine' }} />
        <Box sx={{ width: 200 }}><Pick label="Service" value={service} change={setService} of={(services.data ?? []).map((s) => ({ id: s.id, name: s.spec.name }))} /></Box>
        <a className="link" href="/api/v1/incidents/export" download>
          CSV
        </a>
      </Stack>
      <Rows title="Open" incidents={now} pages={open} axis={axis} none={narrowed ? 'None that is open matches.' : undefined} />
      <Rows title="Over" incidents={past} pages={over} axis={axis} none={over.data ? (narrowed ? `None in ${shown.words} matches.` : `None was in ${shown.words}. Look at an earlier time on the band.`) : 'Loading…'} />
    </div>
  )
}

/** How it stands with what is open, in a sentence. */
function statement(open: Incident[], all: number, narrowed: boolean): string {
  if (narrowed) return `${counted(open.length, 'open incident')} ${open.length === 1 ? 'matches' : 'match'}.`
  if (all === 0) return 'No incident is open.'
  const alone = open.filter((i) => i.phase === 'open' && !i.quiet).length
  return `${counted(all, 'incident')} ${all === 1 ? 'is' : 'are'} open${alone ? `, and nobody is on ${alone === all ? (all === 1 ? 'it' : 'any of them') : `${alone} of them`}` : (all === 1 ? ', and somebody is on it' : ', and somebody is on each')}.`
}

type Pages = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown }

function Rows({ title, incidents, pages, axis, none }: { title: string; incidents: Incident[]; pages: Pages; axis: Axis; none?: string }) {
  if (incidents.length === 0 && !none) return null
  return (
    <section aria-label={title}>
      <Typography variant="h2" className="group">
        {title} {incidents.length > 0 && <span className="sub">{incidents.length}{pages.hasNextPage && ' and more'}</span>}
      </Typography>
      {incidents.length === 0 && <p className="sub">{none}</p>}
      {incidents.map((i) => (
        <Row key={i.id} incident={i} axis={axis} />
      ))}
      {pages.hasNextPage && (
        <Button variant="text" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          {pages.isFetchingNextPage ? 'Loading…' : 'A hundred more'}
        </Button>
      )}
    </section>
  )
}

/** Who has it, or how it ended, in few words. */
function who(i: Incident): string {
  if (i.unfounded) return 'unfounded'
  if (i.review) return i.review.class
  if (i.phase === 'resolved') return i.resolved_by ? `by ${i.resolved_by}` : 'by itself'
  return i.acknowledged?.by ?? (i.assignee_name ? `for ${i.assignee_name}` : 'nobody yet')
}

const phases: Record<Incident['phase'], string> = { open: 'open', acknowledged: 'on it', resolved: 'to review', reviewed: 'reviewed' }

function Row({ incident: i, axis }: { incident: Incident; axis: Axis }) {
  const { zone } = useZone()
  const keep = useKeep()
  const end = i.ended_at ?? new Date(axis.now).toISOString()
  const bad = i.about === 'agreement' ? 'degraded' : i.worst === 'degraded' || i.worst === 'down' ? i.worst : 'unmeasured'
  const follow = i.followers.map((f) => f.name)
  return (
    <Link to={keep(`/incidents/${i.id}`)} className="entry axis-row" data-incident={i.id} data-about={i.about} data-phase={i.phase}>
      <span>
        <div className="name">{i.name}</div>
        <div className="sub">
          <b className={i.severity === 'minor' ? undefined : 'strong'}>{i.severity}</b> · {shortTime(i.began_at, zone)}
          {i.times > 1 && ` · ${i.times} times`}
        </div>
        {follow.length > 0 && <div className="sub">with it {follow.length > 2 ? `${follow.slice(0, 2).join(', ')} and ${follow.length - 2} more` : follow.join(' and ')}</div>}
        {i.planned && <div className="sub">in planned work: {i.planned.name}</div>}
      </span>
      <Strip thin intervals={i.unfounded ? [] : [{ from: i.began_at, to: end, class: bad }]} axis={axis} label={i.headline} />
      <span className="pair">
        <b>{durationUp(i.lasted_ms)}</b>
        <b className={i.phase === 'open' && !i.quiet ? 'word-down' : undefined}>{phases[i.phase]}</b>
        <span>{i.about === 'agreement' ? 'allowance' : i.ended_at ? i.worst : `${i.state} now`}</span>
        <span title={who(i)}>{who(i)}</span>
      </span>
    </Link>
  )
}
