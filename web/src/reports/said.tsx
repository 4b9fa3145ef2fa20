import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'

type Report = Schemas['ReportPage']
type Note = Schemas['NoteView']

const ends: Record<NonNullable<Note['state']>, string> = { open: 'waits for an answer', stands: 'the report stands', revised: 'the report is revised', withdrawn: 'taken back' }

/** What was said of a report: comments among those who make it, and objections of those who received it. */
export function Said({ report: r }: { report: Report }) {
  const { zone } = useZone()
  const [objecting, setObjecting] = useState(false)
  const draft = r.state === 'draft'
  if (r.notes.length === 0 && !r.may.comment && !r.may.object) return null
  return (
    <section aria-label="What was said of it" className="said no-print">
      {r.notes.map((n) => (
        <div key={n.id} className="entry" data-note={n.kind} data-state={n.state}>
          <div className="sub">
            <b>{n.kind === 'comment' ? 'Comment' : 'Objection'}</b> of {n.by}, {shortTime(n.at, zone)}
            {n.about && ` · on ${n.about}`}
            {n.state && (
              <>
                {' · '}
                <span className={n.state === 'open' ? 'word-degraded' : ''}>{ends[n.state]}</span>
              </>
            )}
          </div>
          <div className="as-written">{n.text}</div>
          {n.answer && (
            <div className="as-written">
              <span className="sub">
                {n.answered_by}, {n.answered_at && shortTime(n.answered_at, zone)}:{' '}
              </span>
              {n.answer}
            </div>
          )}
          {n.revision && (
            <Link className="link" to={`/reports/${n.revision}`}>
              the revision
            </Link>
          )}
          {n.state === 'open' && <Ends report={r} note={n} />}
        </div>
      ))}
      {r.may.comment && <Say key={`comment ${r.notes.length}`} report={r} kind="comments" label={draft ? 'A comment on the draft' : 'A comment, which its customer does not see'} act="Comment" />}
      {r.may.object &&
        (objecting ? (
          <Say key={`objection ${r.notes.length}`} report={r} kind="objections" label="What is wrong with it, and what shows that" act="Object" done={() => setObjecting(false)} />
        ) : (
          <button type="button" className="link" onClick={() => setObjecting(true)}>
            Object to a line of it
          </button>
        ))}
    </section>
  )
}

type SayProps = { report: Report; kind: 'comments' | 'objections'; label: string; act: string; done?: () => void }

function Say({ report: r, kind, label, act, done }: SayProps) {
  const fresh = { about: '', text: '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: `${kind}/${r.id}` })
  const save = useChange({
    mutationFn: (v: typeof fresh) => ask(api.POST(kind === 'comments' ? '/api/v1/reports/{id}/comments' : '/api/v1/reports/{id}/objections', { params: { path: { id: r.id } }, body: { text: v.text.trim(), about: v.about || undefined } })),
    again: ['report', 'reports', 'standing'],
    kept,
    onSuccess: () => {
      form.reset(fresh)
      done?.()
    },
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  const lines = [...r.statement.time, ...r.statement.figures].map((l) => l.name).concat(r.outages.map((_, i) => `Outage ${i + 1}`))
  return (
    <form className="form in-place" aria-label={act} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} />
      {kind === 'objections' && (
        <TextField select label="The line" defaultValue="" error={Boolean(err.about)} helperText={err.about?.message} {...form.register('about')}>
          <MenuItem value="">the whole report</MenuItem>
          {lines.map((l) => (
            <MenuItem key={l} value={l}>
              {l}
            </MenuItem>
          ))}
        </TextField>
      )}
      <TextField label={label} multiline minRows={2} error={Boolean(err.text)} helperText={err.text?.message} {...form.register('text', { validate: (v) => v.trim() !== '' || 'Say something' })} />
      <FormEnd error={save.error} busy={save.isPending} save={act} leave={done && (() => {
        kept.done()
        done()
      })} />
    </form>
  )
}

/** How an objection ends: by an answer, or by who objected. */
function Ends({ report: r, note: n }: { report: Report; note: Note }) {
  const navigate = useNavigate()
  const fresh = { answer: '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: `answers/${n.id}` })
  const end = useChange({
    mutationFn: (state: 'stands' | 'revised' | 'withdrawn') => ask(api.POST('/api/v1/reports/{id}/objections/{note}/end', { params: { path: { id: r.id, note: n.id } }, body: { state, answer: form.getValues('answer').trim() || undefined } })),
    again: ['report', 'reports', 'standing'],
    kept,
    onSuccess: ({ revision }) => (revision ? navigate(`/reports/${revision}`) : undefined),
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <>
      <Trouble error={end.error} />
      {n.mine && (
        <button type="button" className="link" disabled={end.isPending} onClick={() => end.mutate('withdrawn')}>
          take it back
        </button>
      )}
      {r.may.answer && (
        <form className="form in-place" aria-label="Answer" onSubmit={(e) => e.preventDefault()}>
          <KeptNote kept={kept} />
          <TextField label="The answer, with what shows it" multiline minRows={2} error={Boolean(err.answer)} helperText={err.answer?.message} {...form.register('answer')} />
          <div className="in-a-row tight">
            <Button disabled={end.isPending} onClick={() => end.mutate('stands')}>
              The report stands
            </Button>
            <Button disabled={end.isPending} onClick={() => end.mutate('revised')}>
              Draft a revision
            </Button>
          </div>
        </form>
      )}
    </>
  )
}

/** Whether a draft is approved, and by whom. */
export function Approval({ report: r }: { report: Report }) {
  const { zone } = useZone()
  const approve = useChange({ mutationFn: () => ask(api.POST('/api/v1/reports/{id}/approval', { params: { path: { id: r.id } }, body: { seen: r.seen ?? '' } })), again: ['report', 'reports'] })
  const a = r.approval
  if (!a) return null
  return (
    <div className="consequence said no-print" data-approval={a.current}>
      {a.current ? (
        <>
          <b className="word-up">Approved</b> by {a.by}, {a.at && shortTime(a.at, zone)}.
        </>
      ) : (
        <>
          <b className="word-degraded">Not approved.</b> {a.by ? `It says something else by now than what ${a.by} approved. ` : ''}A second person approves it, who did not draft it.
        </>
      )}{' '}
      {!a.current && r.may.approve && (
        <Button variant="contained" disabled={approve.isPending} onClick={() => approve.mutate()}>
          Approve it as it reads
        </Button>
      )}
      <Trouble error={approve.error} />
    </div>
  )
}
