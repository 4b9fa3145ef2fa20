import Button from '@mui/material/Button'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Radio from '@mui/material/Radio'
import RadioGroup from '@mui/material/RadioGroup'
import Checkbox from '@mui/material/Checkbox'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { TZDate } from '@date-fns/tz'
import { parse } from 'date-fns'
import { useEffect } from 'react'
import { Controller } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, ask, Problem, type Schemas } from '../api/client'
import { Minute, noDate } from '../parts/day'
import { useForm } from '../parts/form'
import { useKept } from '../parts/kept'
import { useSettled } from '../parts/settled'
import { showFaults, Trouble } from '../parts/trouble'
import { shortTime, wallMinute } from '../time/format'
import { closePath, useWouldAdjust, type Adjust, type Page, type Question } from './queries'
import { causes } from './words'

type Values = { does: 'leave' | 'adjust'; cause: string; text: string; alike: boolean; class: Adjust['class']; from: string; to: string; reference: string }

const classes: Record<Adjust['class'], string> = { excused: 'excused', up: 'up', degraded: 'degraded', down: 'down', unmeasured: 'not measured' }

/** An answer in words, or a proposal that the time counts otherwise, which a second person decides on. */
export function AnswerForm({ c, q, next, think }: { c: Page; q: Question; next: () => void; think: (t: Schemas['WouldAdjust'] | undefined) => void }) {
  const said = q.answer?.by ? q.answer : undefined
  const span = q.from && q.to ? { from: wallMinute(q.from, c.timezone), to: wallMinute(q.to, c.timezone) } : { from: '', to: '' }
  const fresh: Values = { does: 'leave', cause: said?.cause ?? '', text: said?.text ?? '', alike: false, class: 'excused', ...span, reference: '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, said?.at ? Date.parse(said.at) : 0, { draft: `close/${c.agreement.id} ${c.period.name} ${q.key}` })
  const v = form.watch()
  const alike = c.questions.filter((x) => x.kind === q.kind && !x.answer && x.answerable && x.key !== q.key).slice(0, 999) // as many as one request takes
  const adjusts = v.does === 'adjust'
  const asked = useSettled(adjusts ? adjustment(c, q, v) : undefined, JSON.stringify(adjusts && [v.class, v.from, v.to]), 250)
  const would = useWouldAdjust(asked && { ...asked, reason: '', reference: undefined })
  const result = adjusts ? would.data : undefined
  useEffect(() => {
    think(result)
    return () => think(undefined)
  }, [result, think])
  const save = useChange({
    again: 'all',
    kept,
    mutationFn: async (w: Values): Promise<unknown> => {
      const a = adjustment(c, q, w)
      if (w.does === 'adjust' && !a) throw new Error('Finish both times, as 2026-11-03 14:00.')
      if (a && w.does === 'adjust') return ask(api.POST('/api/v1/adjustments', { body: a }))
      const keys = [q.key, ...(w.alike ? alike.map((x) => x.key) : [])]
      return ask(api.PUT('/api/v1/closes/{id}/answers', { ...closePath(c), body: { keys, text: w.text, cause: w.cause || undefined, seen: said?.at } }))
    },
    onSuccess: next,
    onError: (e) => showFaults(e, form.setError, '', { reason: 'text' }),
  })
  const back = useChange({
    again: 'all',
    kept,
    mutationFn: () => ask(api.DELETE('/api/v1/closes/{id}/answers', { params: { path: { id: c.agreement.id }, query: { period: c.period.name, key: q.key, seen: said?.at ?? '' } } })),
  })
  if (!c.may_answer) {
    return (
      <section aria-label="Answer">
        {q.answer ? <Said q={q} zone={c.timezone} /> : <p className="sub">{c.frozen ? 'It was not answered before the account was frozen.' : 'An operator or a manager answers it.'}</p>}
      </section>
    )
  }
  const err = form.formState.errors
  const wrong = (f: string) => (would.error instanceof Problem ? would.error.fields[f] : undefined)
  const timed = q.from !== undefined && q.to !== undefined && !['edited', 'late', 'clock', 'objection', 'claim'].includes(q.kind)
  return (
    <form className="form" aria-label="Answer" onSubmit={(e) => void form.handleSubmit((w) => save.mutate(w))(e)}>
      {q.answer && !said && <Said q={q} zone={c.timezone} />}
      <Typography variant="h2">{said ? `Answered by ${said.by}, ${shortTime(said.at ?? '', c.timezone)}` : 'Answer'}</Typography>
      <Controller
        control={form.control}
        name="cause"
        render={({ field }) => (
          <TextField select label="Cause" {...field} sx={{ maxWidth: 260 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            {Object.entries(causes).map(([k, name]) => (
              <MenuItem key={k} value={k}>
                {name}
              </MenuItem>
            ))}
          </TextField>
        )}
      />
      <TextField label="What is known of it" required multiline minRows={2} maxRows={8} error={Boolean(err.text)} helperText={err.text?.message ?? 'It stands beside the account, and beside an outage in the report.'} {...form.register('text')} slotProps={{ htmlInput: { maxLength: 2000 } }} />
      {timed && (
        <Controller
          control={form.control}
          name="does"
          render={({ field }) => (
            <RadioGroup {...field} aria-label="What it counts as">
              <FormControlLabel value="leave" control={<Radio size="small" />} label="It counts as it does" />
              <FormControlLabel value="adjust" control={<Radio size="small" />} label="Propose an adjustment, on which a second person decides" />
            </RadioGroup>
          )}
        />
      )}
      {adjusts && (
        <>
          <div className="side">
            <Controller
              control={form.control}
              name="class"
              render={({ field }) => (
                <TextField select label="To count as" {...field}>
                  {Object.entries(classes).map(([k, name]) => (
                    <MenuItem key={k} value={k}>
                      {name}
                    </MenuItem>
                  ))}
                </TextField>
              )}
            />
            <TextField label="Reference" helperText="A ticket, a letter" {...form.register('reference')} slotProps={{ htmlInput: { maxLength: 200 } }} />
          </div>
          <div className="side">
            {(['from', 'to'] as const).map((name) => (
              <Controller key={name} control={form.control} name={name} render={({ field }) => <Minute label={name === 'from' ? 'From' : 'To'} value={field.value} change={field.onChange} zone={c.timezone} error={err[name]?.message ?? wrong(name)} />} />
            ))}
          </div>
          <div className="consequence" aria-live="polite" data-would>
            {would.error ? (wrong('from') ?? wrong('to') ?? would.error.message) : !result ? '' : result.differs.length === 0 ? 'It would change nothing.' : result.differs.map((w) => <div key={w}>{w}</div>)}
          </div>
        </>
      )}
      {!adjusts && !said && alike.length > 0 && (
        <Controller control={form.control} name="alike" render={({ field }) => <FormControlLabel control={<Checkbox size="small" checked={field.value} onChange={field.onChange} />} label={`Answer the ${alike.length} other open ${alike.length === 1 ? 'question' : 'questions'} of this kind alike`} />} />
      )}
      <Trouble error={save.error instanceof Problem && Object.keys(save.error.fields).length > 0 ? undefined : (save.error ?? back.error)} />
      <div className="in-a-row tight">
        <Button type="submit" variant="contained" disabled={save.isPending}>
          {adjusts ? 'Propose it' : said ? 'Change the answer' : 'Answer, next question'}
        </Button>
        {said && (
          <Button variant="text" disabled={back.isPending} onClick={() => back.mutate()}>
            Take it back
          </Button>
        )}
      </div>
    </form>
  )
}

/** What a form proposes; undefined where its times are none. */
function adjustment(c: Page, q: Question, v: Values): Adjust | undefined {
  const exact = (text: string, at: string | undefined) => {
    // What was not changed is the very instant, which a minute cannot write.
    if (at && text === wallMinute(at, c.timezone)) return at
    if (text === '' || text === noDate) return undefined
    const t = parse(text, 'yyyy-MM-dd HH:mm', TZDate.tz(c.timezone)).getTime()
    return Number.isNaN(t) ? undefined : new Date(t).toISOString()
  }
  const [from, to] = [exact(v.from, q.from), exact(v.to, q.to)]
  if (!from || !to) return undefined
  return { agreement: c.agreement.id, period: c.period.name, from, to, class: v.class, cause: (v.cause || 'other') as Adjust['cause'], reason: v.text, reference: v.reference.trim() || undefined }
}

function Said({ q, zone }: { q: Question; zone: string }) {
  return (
    <p data-said>
      {q.answer?.text}{' '}
      <span className="sub">
        {q.answer?.cause && `Cause: ${causes[q.answer.cause]}. `}
        {q.answer?.by ? `${q.answer.by}, ${shortTime(q.answer.at ?? '', zone)}` : `As ${q.subject?.name ?? 'its review'} says`}
      </span>
    </p>
  )
}
