import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { Suspense, lazy, useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { FormEnd } from '../parts/form-end'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Trouble } from '../parts/trouble'
import { duration, minutesOf, secondsIn, wallMinute, wallSecond, wantsMinutes, weekTime } from '../time/format'
import { useZone } from '../time/span'
import { Clashes, Effects } from './effects'
import { useGo } from './go'
import { useWindowWork, type Work } from './queries'

const Minute = lazy(() => import('../parts/day').then((m) => ({ default: m.Minute })))

type Does = Schemas['OccurrenceAsk']['does']

type Props = { work: Work; now: number; may: boolean; onClose: () => void }

/** One piece of work: when, on what, what of it is granted; moved, cut, skipped or ended in seconds. */
export default function Chosen({ work: w, now, may, onClose }: Props) {
  const { zone } = useZone()
  const go = useGo()
  const [moving, setMoving] = useState(false)
  const [reason, setReason] = useState('')
  const [start, setStart] = useState(wallMinute(w.from, w.timezone))
  const [minutes, setMinutes] = useState(minutesOf(Math.round((Date.parse(w.to) - Date.parse(w.from)) / 1000)))
  const runs = Date.parse(w.from) <= now && now < Date.parse(w.to)
  const over = Date.parse(w.to) <= now
  const turn = useChange({
    mutationFn: async (body: Partial<Schemas['OccurrenceAsk']> & { does: Does }) => {
      const post = (more: Partial<Schemas['OccurrenceAsk']>) => ask(api.POST('/api/v1/windows/{id}/occurrence', { params: { path: { id: w.window } }, body: { at: w.at, revision: w.revision, reason: reason || undefined, ...body, ...more } }))
      // Where a service asks a second person for what it adds, they are asked.
      const asks = body.does === 'move' || body.does === 'restore' ? (await post({ preview: true })).asks : []
      await post({ ask: asks.length > 0 || undefined })
      return asks.map((s) => s.name)
    },
    again: 'all',
    unawaited: true,
    onSuccess: () => setMoving(false),
  })
  const retiring = useRetiring('windows')
  const work = useWindowWork(w.window, !over)
  const fault = (f: string) => (turn.error instanceof Problem ? turn.error.fields[f] : undefined)
  const did = turn.isSuccess ? turn.variables.does : undefined
  return (
    <section data-chosen={w.window} aria-label={w.name}>
      <h2>{w.name}</h2>
      <p>
        {weekTime(w.from, zone)} to {weekTime(w.to, zone)}, <span className="in-one">{duration(Date.parse(w.to) - Date.parse(w.from))}</span>
        {runs && <b className="word-maintenance"> · under way</b>}
        {over && ' · over'}
      </p>
      <div className="sub">
        {w.type === 'emergency' && <div>Emergency work.</div>}
        <div>On {w.services.map((s) => s.name).join(', ')}.</div>
        {w.via.length > 0 && <div>Seen from a service that goes down with it: it needs {w.via.join(' and ')}.</div>}
        <div>The window: {w.words}.</div>
        {w.pause.length > 0 && <div>Not measured meanwhile: {w.pause.join(', ')}.</div>}
        {w.changed && <div>This one is otherwise than its rule says.</div>}
        {w.reference && <div>Change {w.reference}</div>}
      </div>
      {did && (
        <p role="status" data-did={did}>
          {turn.data?.length ? `Asked for: ${turn.data.join(' and ')} ${turn.data.length === 1 ? 'wants' : 'want'} a second person to approve it.` : { skip: 'Skipped.', move: 'Moved.', restore: 'As the rule says.', end: 'Ended.' }[did]}
        </p>
      )}
      {may && !over && !moving && (
        <div className="in-a-row">
          {runs && (
            <Button disabled={turn.isPending} onClick={() => turn.mutate({ does: 'end' })}>
              End it now
            </Button>
          )}
          <Button onClick={() => setMoving(true)}>{runs ? 'Make it longer or shorter' : 'Move it'}</Button>
          {!runs && w.recurs && (
            <Button disabled={turn.isPending} onClick={() => turn.mutate({ does: 'skip' })}>
              Skip this one
            </Button>
          )}
          {w.changed && (
            <Button disabled={turn.isPending} onClick={() => turn.mutate({ does: 'restore' })}>
              As the rule says
            </Button>
          )}
        </div>
      )}
      {moving && (
        <form
          className="form in-place"
          aria-label="Move it"
          onSubmit={(e) => {
            e.preventDefault()
            turn.mutate({ does: 'move', start: runs ? undefined : start === wallMinute(w.from, w.timezone) ? wallSecond(w.from, w.timezone) : `${start.replace(' ', 'T')}:00`, duration_s: secondsIn(minutes) })
          }}
        >
          {!runs && (
            <Suspense fallback={null}>
              <Minute label="Starts" value={start} change={setStart} zone={w.timezone} required error={fault('start')} help={w.timezone} />
            </Suspense>
          )}
          <TextField label="Lasts, min" required value={minutes} onChange={(e) => setMinutes(e.target.value)} error={Boolean(fault('duration_s')) || !(secondsIn(minutes) > 0)} helperText={fault('duration_s') ?? (secondsIn(minutes) > 0 ? undefined : wantsMinutes)} />
          {fault('reason') && <TextField label="Why" required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} error helperText={fault('reason')} />}
          <FormEnd busy={turn.isPending} not={!(secondsIn(minutes) > 0)} save="Move it" leave={() => setMoving(false)} />
        </form>
      )}
      {!over && work.data && !moving && (
        <section aria-label="What it costs">
          <h2>What {w.recurs ? 'the window' : 'it'} costs</h2>
          <Clashes of={work.data.clashes} />
          <Effects view={work.data} />
        </section>
      )}
      <Trouble error={retiring.error ?? (['start', 'duration_s', 'reason'].some(fault) ? undefined : turn.error)} />
      <p className="sub">
        {may && (
          <>
            <Link to={go(`/calendar/plan/${w.window}`, {})}>Edit the window</Link>
            {!over && (
              <>
                {' · '}
                <button type="button" className="link" onClick={() => retiring.ask(w.window)}>
                  cancel {w.recurs ? 'all of it' : 'it'}
                </button>
              </>
            )}
            {' · '}
          </>
        )}
        <button type="button" className="link" onClick={onClose}>
          close
        </button>
      </p>
      <RetireQuestion of={retiring} title={`Cancel ${w.name}?`} act={w.recurs ? 'Cancel all of it' : 'Cancel it'} text="What has taken place stays in the accounts; nothing of it is planned from now on. It can be restored, and then counts as announced anew." />
    </section>
  )
}
