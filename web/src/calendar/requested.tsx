import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { Awaited, Trouble } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { Clashes, Effects } from './effects'
import { useGo } from './go'
import { useWorkRequest } from './queries'

type Does = Schemas['WorkDecision']['does']

const states: Record<Schemas['WorkRequest']['state'], string> = { open: 'It waits for a second person.', approved: 'Approved', refused: 'Refused', withdrawn: 'Withdrawn' }

/** Planned work that waits for a second person, with what it would do; decided in its place. */
export default function Requested({ id, onClose }: { id: number; onClose: () => void }) {
  const { zone } = useZone()
  const go = useGo()
  const [note, setNote] = useState('')
  const request = useWorkRequest(id)
  const decide = useChange({
    mutationFn: (does: Does) => ask(api.POST('/api/v1/work-requests/{id}/decision', { params: { path: { id } }, body: { does, note: note.trim() || undefined } })),
    again: 'all',
  })
  const r = request.data
  if (!r) return <Awaited error={request.error} />
  const fault = decide.error instanceof Problem ? decide.error.fields.note : undefined
  const open = r.state === 'open'
  return (
    <section data-request={r.id} data-state={r.state} aria-label={r.spec.name}>
      <h2>{r.spec.name}</h2>
      <p>
        <b className={open ? 'word-degraded' : undefined}>{states[r.state]}</b>
        {r.decided_by && ` by ${r.decided_by}, ${shortTime(r.decided_at ?? '', zone)}`}
      </p>
      <div className="sub">
        <div>
          {r.words}, {r.spec.timezone}.
        </div>
        <div>On {r.services.map((s) => s.name).join(', ')}.</div>
        <div>
          {r.by} asks for it since {shortTime(r.asked_at, zone)}
          {r.revision ? ', as an edit of what is planned' : ''}.
        </div>
        {r.reason && <div>“{r.reason}”</div>}
        {r.note && <div>Said to it: “{r.note}”</div>}
        {r.spec.note && <div>{r.spec.note}</div>}
      </div>
      {r.fault && (
        <p className="trouble" role="alert">
          It cannot be approved as things are: {r.fault}
        </p>
      )}
      {r.work && (
        <section aria-label="What it costs">
          <h2>What it would cost</h2>
          <Clashes of={r.work.clashes} />
          <Effects view={r.work} />
        </section>
      )}
      {open && (r.may || r.mine) && (
        <form className="form narrow-form" aria-label="Decide" onSubmit={(e) => e.preventDefault()}>
          {r.may && <TextField label="What you say to it" multiline maxRows={4} value={note} error={Boolean(fault)} helperText={fault ?? 'Of a refusal: why'} slotProps={{ htmlInput: { maxLength: 500 } }} onChange={(e) => setNote(e.target.value)} />}
          <div className="in-a-row">
            {r.may && (
              <Button variant="contained" disabled={decide.isPending || Boolean(r.fault)} onClick={() => decide.mutate('approve')}>
                Approve and announce
              </Button>
            )}
            {r.may && (
              <Button disabled={decide.isPending} onClick={() => decide.mutate('refuse')}>
                Refuse
              </Button>
            )}
            {r.mine && (
              <Button disabled={decide.isPending} onClick={() => decide.mutate('withdraw')}>
                Withdraw it
              </Button>
            )}
          </div>
        </form>
      )}
      {open && !r.may && <p className="sub">{r.mine ? 'Somebody else decides: an approver, a manager or an administrator.' : 'An approver, a manager or an administrator decides.'}</p>}
      <Trouble error={fault ? undefined : decide.error} />
      <p className="sub">
        {r.window && <Link to={go(`/calendar/plan/${r.window}`, {})}>{open ? 'The window as it is' : 'The window'}</Link>}
        {r.window && ' · '}
        <button type="button" className="link" onClick={onClose}>
          close
        </button>
      </p>
    </section>
  )
}
