import Button from '@mui/material/Button'
import Autocomplete from '@mui/material/Autocomplete'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, useFieldArray, type UseFormReturn } from 'react-hook-form'
import { useHolidayLists } from '../api/queries'
import { days, type Values } from './values'

const names: Record<string, string> = { MO: 'Monday', TU: 'Tuesday', WE: 'Wednesday', TH: 'Thursday', FR: 'Friday', SA: 'Saturday', SU: 'Sunday' }
const time = { value: /^([01]\d|2[0-3]):[0-5]\d$|^24:00$/, message: 'As 08:00, at most 24:00' }

/** Days of the week as people write them: "Mon–Fri", "Sat, Sun". */
function short(list: string[]): string {
  const at = list.map((d) => days.indexOf(d)).sort((a, b) => a - b)
  const [first, last] = [at[0], at[at.length - 1]]
  const name = (i: number) => names[days[i] ?? '']?.slice(0, 3) ?? ''
  if (first !== undefined && last !== undefined && at.length > 2 && last - first === at.length - 1) return `${name(first)}–${name(last)}`
  return at.map(name).join(', ')
}

/** Hours by the week in a zone: rows of days and hours, and the days that have none. */
export function HoursFields({ form, name, holidays, may }: { form: UseFormReturn<Values>; name: 'plan' | 'within_plan'; holidays: string; may: boolean }) {
  const rows = useFieldArray({ control: form.control, name: `${name}.weekly` })
  const err = form.formState.errors[name]
  return (
    <div className="rows" data-hours={name}>
      {rows.fields.map((row, i) => {
        const own = err?.weekly?.[i]
        return (
          <div className="row" key={row.id}>
            <Controller
              control={form.control}
              name={`${name}.weekly.${i}.days`}
              rules={{ validate: (list) => list.length > 0 || 'At least one' }}
              render={({ field: f }) => (
                <TextField select label="Days" {...f} error={Boolean(own?.days)} helperText={own?.days?.message} slotProps={{ select: { multiple: true, renderValue: (v) => short(v as string[]) } }}>
                  {days.map((d) => (
                    <MenuItem key={d} value={d}>
                      {names[d]}
                    </MenuItem>
                  ))}
                </TextField>
              )}
            />
            <TextField label="From" error={Boolean(own?.from)} helperText={own?.from?.message} {...form.register(`${name}.weekly.${i}.from`, { pattern: time })} />
            <TextField label="To" error={Boolean(own?.to)} helperText={own?.to?.message} {...form.register(`${name}.weekly.${i}.to`, { pattern: time })} />
            <Button variant="text" disabled={rows.fields.length === 1} onClick={() => rows.remove(i)} aria-label={`Take out row ${i + 1}`}>
              Take out
            </Button>
          </div>
        )
      })}
      <Controller control={form.control} name={`${name}.lists`} render={({ field: f }) => <HolidayLists label={`${holidays}, from lists`} value={f.value} change={f.onChange} error={err?.lists?.message} />} />
      <div className="side">
        <TextField
          label={holidays}
          multiline
          error={Boolean(err?.holidays)}
          helperText={err?.holidays?.message ?? 'Dates, as 2026-12-25, one a line; empty: none'}
          {...form.register(`${name}.holidays`, { validate: (v) => v.split(/[\s,;]+/).filter(Boolean).every((d) => /^\d{4}-\d{2}-\d{2}$/.test(d)) || 'Write dates as 2026-12-25' })}
        />
        <TextField label="Hours in the zone" error={Boolean(err?.timezone)} helperText={err?.timezone?.message} {...form.register(`${name}.timezone`)} />
      </div>
      <div hidden={!may}>
        <Button variant="outlined" onClick={() => rows.append({ days: ['SA'], from: '08:00', to: '18:00' })}>
          Add a row of hours
        </Button>
      </div>
    </div>
  )
}

/** Chooses lists of holidays by name. */
function HolidayLists({ label, value, change, error }: { label: string; value: string[]; change: (ids: string[]) => void; error?: string }) {
  const lists = useHolidayLists().data ?? []
  const name = (id: string) => lists.find((l) => l.id === id)?.spec.name ?? id
  const ahead = value.flatMap((id) => lists.find((l) => l.id === id)?.spec.days ?? []).filter((d) => d.date >= new Date().toISOString().slice(0, 10))
  const next = ahead.map((d) => d.date).sort()[0]
  return (
    <Autocomplete
      multiple
      options={lists.filter((l) => !l.retired).map((l) => l.id)}
      value={value}
      getOptionLabel={name}
      noOptionsText="No list of that name; they are made under Set-up, Holidays"
      onChange={(_, ids) => change(ids)}
      renderInput={(params) => <TextField {...params} label={label} error={Boolean(error)} helperText={error ?? (next ? `${ahead.length} days still to come, the next ${next}` : value.length > 0 ? 'No day still to come in them' : undefined)} />}
    />
  )
}
