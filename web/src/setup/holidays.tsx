import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useRef } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useAgreements, useHolidayLists } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { Awaited } from '../parts/trouble'
import { useKeep } from '../time/span'
import { holidaysOf, joined, linesOf } from './holiday-lines'
import { Listing } from './listing'

type List = Schemas['DefinedHolidayListSpec']
type Values = { name: string; days: string; note: string }

/** Days without hours that agreements share. */
export function Holidays() {
  const lists = useHolidayLists()
  const agreements = useAgreements()
  const keep = useKeep()
  if (!lists.data) return <Awaited error={lists.error} />
  const users = (id: string) =>
    (agreements.data ?? []).filter((a) => !a.retired && [a.spec.service_hours, a.spec.maintenance?.within].some((h) => h?.holiday_lists?.includes(id)))
  const today = new Date().toISOString().slice(0, 10)
  return (
    <Listing<List>
      title="Holidays"
      one="list of holidays"
      note="Days on which service hours do not begin, shared by the agreements that name the list. What is changed here changes days to come alone: the accounts of days that have begun stay what they are."
      list={lists.data}
      columns={['List', 'Days', 'Next', 'Used by']}
      cells={(l) => {
        const next = l.spec.days.filter((d) => d.date >= today).sort((a, b) => (a.date < b.date ? -1 : 1))[0]
        return [
          <>
            {l.spec.name}
            {l.spec.note && <div className="sub">{l.spec.note}</div>}
          </>,
          l.spec.days.length,
          next ? [next.date, next.name].filter(Boolean).join(' ') : 'none to come',
          users(l.id).map((a, i) => (
            <span key={a.id}>
              {i > 0 && ', '}
              <Link to={keep(`/agreements/${a.id}`)}>{a.spec.name}</Link>
            </span>
          )),
        ]
      }}
      form={(l, done) => <HolidaysForm list={l} done={done} />}
      of="holiday-lists"
    />
  )
}

function HolidaysForm({ list, done }: { list?: List; done: () => void }) {
  const fresh: Values = { name: list?.spec.name ?? '', days: linesOf(list?.spec.days ?? []), note: list?.spec.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, list?.revision ?? 0, { draft: `holiday-lists/${list?.id ?? 'new'}` })
  const save = useSaving({
    of: 'holiday-lists',
    entry: list,
    form,
    kept,
    spec: (v) => ({ name: v.name, days: holidaysOf(v.days).days, note: v.note || undefined }),
    names: { 'days[': 'days' },
    done,
  })
  const load = useChange({
    mutationFn: async (file: File) => ({ file: file.name, ...(await ask(api.POST('/api/v1/holiday-lists/read', { body: { text: await file.text() } }))) }),
    onSuccess: ({ days }) => form.setValue('days', linesOf(joined(holidaysOf(form.getValues('days')).days, days)), { shouldDirty: true }),
  })
  const file = useRef<HTMLInputElement>(null)
  const err = form.formState.errors
  const wrong = (text: string) => {
    const lines = holidaysOf(text).wrong
    return lines.length === 0 || `Each line begins with a date, as 2026-12-25 Christmas Day; line ${lines.join(', ')} does not`
  }
  return (
    <form className="form in-place" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={list && { path: 'holiday-lists', id: list.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <TextField label="Days" multiline minRows={6} maxRows={16} error={Boolean(err.days)} helperText={err.days?.message ?? 'One a line: 2026-12-25 Christmas Day'} {...form.register('days', { validate: wrong })} slotProps={{ inputLabel: { shrink: true } }} />
      <div className="in-a-row tight">
        <Button disabled={load.isPending} onClick={() => file.current?.click()}>
          Take days from an iCalendar file
        </Button>
        <input
          ref={file}
          type="file"
          accept=".ics,text/calendar"
          hidden
          onChange={(e) => {
            const chosen = e.target.files?.[0]
            if (chosen) load.mutate(chosen)
            e.target.value = ''
          }}
        />
        {load.data && (
          <div className="sub" role="status" data-loaded={load.data.days.length}>
            {load.data.days.length === 1 ? 'One day' : `${load.data.days.length} days`} in {load.data.file} stand among the lines now.
            {load.data.left.map((l) => (
              <div key={l.name + l.why}>
                Left out: {l.name || 'an event without a name'}; {l.why}.
              </div>
            ))}
          </div>
        )}
      </div>
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error ?? load.error} busy={save.isPending} save={list ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}
