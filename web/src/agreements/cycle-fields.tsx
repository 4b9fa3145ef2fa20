import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, type Control, type FieldErrors, type FieldValues, type UseFormReturn } from 'react-hook-form'
import type { Schemas } from '../api/client'

type Cycle = Schemas['Cycle']

/** The fields of how periods follow one another. */
export type CycleValues = { unit: Cycle['unit']; day: string; month: string; weekday: string }

export const cycleValues = (c: Cycle | undefined): CycleValues => ({
  unit: c?.unit ?? 'month',
  day: String(c?.day ?? 1),
  month: String(c?.month || 1),
  weekday: c?.weekday ?? 'MO',
})

/** What the fields say; undefined for calendar months. */
export function cycleOf(v: CycleValues): Cycle | undefined {
  if (v.unit === 'week') return { unit: 'week', weekday: v.weekday as Cycle['weekday'] }
  const day = Number(v.day)
  const start = day === 1 ? {} : { day }
  if (v.unit === 'month') return day === 1 ? undefined : { unit: 'month', ...start }
  return { unit: v.unit, ...start, ...(v.month === '1' ? {} : { month: Number(v.month) }) }
}

const months = ['January', 'February', 'March', 'April', 'May', 'June', 'July', 'August', 'September', 'October', 'November', 'December']
const weekdays = { MO: 'Monday', TU: 'Tuesday', WE: 'Wednesday', TH: 'Thursday', FR: 'Friday', SA: 'Saturday', SU: 'Sunday' }

/** What is accounted at a time: a unit, and when one starts. */
export function CycleFields<V extends FieldValues & CycleValues>({ form }: { form: UseFormReturn<V> }) {
  // The form has these fields, whatever others it has.
  const control = form.control as unknown as Control<CycleValues>
  const err = form.formState.errors as FieldErrors<CycleValues>
  const unit = (form as unknown as UseFormReturn<CycleValues>).watch('unit')
  const choice = (name: keyof CycleValues, label: string, of: [string, string][]) => (
    <Controller
      control={control}
      name={name}
      render={({ field: f }) => (
        <TextField select label={label} {...f} error={Boolean(err[name])} helperText={err[name]?.message}>
          {of.map(([value, text]) => (
            <MenuItem key={value} value={value}>
              {text}
            </MenuItem>
          ))}
        </TextField>
      )}
    />
  )
  return (
    <>
      {choice('unit', 'Accounted by the', [
        ['week', 'week'],
        ['month', 'month'],
        ['quarter', 'quarter'],
        ['half-year', 'half-year'],
        ['year', 'year'],
      ])}
      {unit === 'week'
        ? choice('weekday', 'From', Object.entries(weekdays))
        : choice('day', 'From day', [...Array.from({ length: 28 }, (_, i): [string, string] => [String(i + 1), String(i + 1)]), ['-1', 'the last']])}
      {unit !== 'week' && unit !== 'month' && choice('month', 'Year from', months.map((m, i): [string, string] => [String(i + 1), m]))}
    </>
  )
}
