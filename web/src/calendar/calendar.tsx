import { TZDate } from '@date-fns/tz'
import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { addDays, format } from 'date-fns'
import { Suspense, lazy, useState } from 'react'
import { Link, useLocation, useNavigate, useParams } from 'react-router'
import type { Schemas } from '../api/client'
import { useMay, useServices } from '../api/queries'
import { useParam } from '../parts/group-by'
import { More, useFind, useShown } from '../parts/more'
import { Awaited, Trouble } from '../parts/trouble'
import { weekTime, wallMinute } from '../time/format'
import { useZone } from '../time/span'
import { Clashes } from './effects'
import { useGo } from './go'
import { InOrder, Lanes, keyOf, type Draft } from './lanes'
import { useCalendar } from './queries'
import './calendar.css'

const WorkForm = lazy(() => import('./work-form'))
const Chosen = lazy(() => import('./chosen'))
const Requested = lazy(() => import('./requested'))

const lengths: Record<string, string> = { 1: 'a day', 7: 'a week', 14: 'two weeks', 31: 'a month' }

/** When may we work, and what will it cost? */
export function CalendarPage() {
  const { home } = useZone()
  const { id } = useParams()
  const { pathname } = useLocation()
  const planning = pathname.startsWith('/calendar/plan')
  const [from, setFrom] = useParam('from')
  const [length, setLength] = useParam('days')
  const [quiet, setQuiet] = useParam('quiet')
  const [find, text, setText] = useFind()
  const [shown, more] = useShown()
  const days = length in lengths ? Number(length) : 14
  const calendar = useCalendar({ from: from || undefined, days, find: find || undefined, quiet: quiet ? true : undefined, count: shown })
  const [chosen, setChosen] = useParam('work')
  const [request, setRequest] = useParam('request')
  const [draft, setDraft] = useState<Draft>()
  const may = useMay()('operate')
  const navigate = useNavigate()
  const go = useGo()
  const services = useServices()
  const data = calendar.data
  if (!data) return <Awaited error={calendar.error} />
  const axis = { from: Date.parse(data.from), to: Date.parse(data.to), now: Date.parse(data.now) }
  const day = (n: number) => format(addDays(new TZDate(axis.from, data.timezone), n), 'yyyy-MM-dd')
  const work = data.lanes.flatMap((l) => l.work).find((w) => keyOf(w) === chosen)
  const plan = (service: string, a: number, b: number) => {
    const quarter = 900_000
    const start = Math.floor(Math.max(a, axis.now) / quarter) * quarter + (a < axis.now ? quarter : 0)
    const minutes = Math.max(15, Math.round((b - start) / quarter) * 15)
    void navigate(go('/calendar/plan', { service, start: wallMinute(start, home), lasts: String(minutes) }))
  }
  return (
    <div className={planning ? 'with-aside calendar planning' : 'with-aside calendar'}>
      <div>
        <Typography variant="h1" className="statement">
          {data.words}
        </Typography>
        <Box className="lead" component="div" sx={{ display: 'flex', flexWrap: 'wrap', gap: '2px 14px', alignItems: 'baseline' }}>
          <span>
            {format(new TZDate(axis.from, data.timezone), 'd MMMM')} to {format(new TZDate(axis.to - 1, data.timezone), 'd MMMM yyyy')}, {data.timezone}
          </span>
          <button type="button" className="link" onClick={() => setFrom(day(-days))}>
            earlier
          </button>
          <button type="button" className="link" onClick={() => setFrom('')}>
            today
          </button>
          <button type="button" className="link" onClick={() => setFrom(day(days))}>
            later
          </button>
          <select className="link" aria-label="How many days" value={String(days)} onChange={(e) => setLength(e.target.value === '14' ? '' : e.target.value)}>
            {Object.entries(lengths).map(([n, words]) => (
              <option key={n} value={n}>
                {words}
              </option>
            ))}
          </select>
          <Link to={go('/calendar/exchange', {})} className="link">
            iCalendar
          </Link>
        </Box>
        <Trouble error={calendar.error} />
        {data.faults.map((f) => (
          <Alert key={f.window} severity="warning" sx={{ mb: 1 }} data-calendar-fault={f.window}>
            When {f.name} is cannot be told: {f.fault}
          </Alert>
        ))}
        <Clashes of={data.clashes} />
        <Waiting of={data.requests} chosen={request} zone={data.timezone} onChoose={(id) => setRequest(id === request ? '' : id)} />
        {(data.lanes.length > 12 || data.left > 0 || text) && (
          <div className="head">
            <span className="sub" role="status">
              {data.lanes.length + data.left} {data.lanes.length + data.left === 1 ? 'service' : 'services'}
            </span>
            <TextField placeholder="service or customer" value={text} sx={{ width: 220 }} slotProps={{ htmlInput: { 'aria-label': 'Filter', maxLength: 80 } }} onChange={(e) => setText(e.target.value)} />
          </div>
        )}
        {data.lanes.length === 0 ? (
          <div className="empty">
            <p>{text ? 'No service matches. Take a word away.' : services.data?.some((s) => !s.retired) ? 'Nothing is planned, and nothing was promised yet.' : 'There is no service yet to plan work on.'}</p>
          </div>
        ) : (
          <Lanes lanes={data.lanes} embargoes={data.embargoes} axis={axis} chosen={chosen} onChoose={(key) => setChosen(key === chosen ? '' : key)} onPlan={may ? plan : undefined} draft={planning ? draft : undefined} />
        )}
        <InOrder lanes={data.lanes} chosen={chosen} now={axis.now} onChoose={(key) => setChosen(key === chosen ? '' : key)} />
        <More shown={data.lanes.length} of={data.lanes.length + data.left} busy={calendar.isFetching} onMore={more} />
        <p className="sub">
          {data.quiet > 0 && (
            <button type="button" className="link" onClick={() => setQuiet('yes')}>
              {data.quiet === 1 ? '1 more service has' : `${data.quiet} more services have`} neither work nor an agreement
            </button>
          )}
          {quiet && (
            <button type="button" className="link" onClick={() => setQuiet('')}>
              leave those away that have neither work nor an agreement
            </button>
          )}
        </p>
        {data.embargoes.length > 0 && (
          <p className="sub" data-embargoes>
            {data.embargoes.map((e) => (
              <span key={e.id}>
                <b className="word-down">embargo</b> {e.name}, {weekTime(e.from, data.timezone)} to {weekTime(e.to, data.timezone)}
              </span>
            ))}
          </p>
        )}
      </div>
      <aside className={planning ? 'pane first-on-phone' : 'pane'}>
        {planning && may ? (
          <Suspense fallback={null}>
            <WorkForm key={id ?? 'new'} id={id} show={setDraft} />
          </Suspense>
        ) : /^\d+$/.test(request) ? (
          <Suspense fallback={null}>
            <Requested key={request} id={Number(request)} onClose={() => setRequest('')} />
          </Suspense>
        ) : work ? (
          <Suspense fallback={null}>
            <Chosen key={keyOf(work)} work={work} now={axis.now} may={may} onClose={() => setChosen('')} />
          </Suspense>
        ) : (
          <>
            {may && (
              <Button variant="contained" component={Link} to={go('/calendar/plan', {})}>
                Plan work
              </Button>
            )}
            <p className="sub">
              {may ? 'Or drag along a service. ' : ''}Choose a piece of work to see what it costs{may ? ', to move, shorten or skip it' : ''}. Measuring goes on during work, and nobody is told of what fails in it.
            </p>
          </>
        )}
      </aside>
    </div>
  )
}

/** What somebody asks a second person for. */
function Waiting({ of, chosen, zone, onChoose }: { of: Schemas['WorkRequest'][]; chosen: string; zone: string; onChoose: (id: string) => void }) {
  if (of.length === 0) return null
  return (
    <section aria-label="Waits for a second person" data-waiting={of.length}>
      {of.map((r) => (
        <div key={r.id} className={chosen === String(r.id) ? 'entry low open' : 'entry low'}>
          <b className="word-degraded">waits</b>{' '}
          <button type="button" className="link" aria-pressed={chosen === String(r.id)} onClick={() => onChoose(String(r.id))}>
            {r.spec.name}
          </button>{' '}
          <span className="sub">
            {r.first ? weekTime(r.first, zone) : 'cannot be approved as things are'} · {r.services.map((s) => s.name).join(', ')} · {r.by} asks a second person
          </span>
        </div>
      ))}
    </section>
  )
}
