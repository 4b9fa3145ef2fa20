import Autocomplete from '@mui/material/Autocomplete'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, type FieldValues, type UseFormReturn } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { useHolidayLists } from '../api/queries'

type Schedule = Schemas['ReportSchedule']

/** When reports are drafted, as fields hold it. */
export type ScheduleValues = { drafted: string; working_day: string; rrule: string; at: string; lists: string[]; publish: boolean }

const rules: Record<string, string> = {
  'FREQ=MONTHLY;BYDAY=1MO': 'on the first Monday of each month',
  'FREQ=MONTHLY;BYDAY=-1FR': 'on the last Friday of each month',
  'FREQ=MONTHLY;BYMONTHDAY=1': 'on the first of each month',
}

export const scheduleValues = (s: Schedule | undefined): ScheduleValues => ({
  drafted: !s ? '' : s.working_day ? 'working' : s.rrule && s.rrule in rules ? s.rrule : 'rule',
  working_day: s?.working_day ? String(s.working_day) : '3',
  rrule: s?.rrule ?? '',
  at: s?.at ?? '08:00',
  lists: s?.holiday_lists ?? [],
  publish: s?.publish ?? false,
})

/** The schedule that the fields describe; undefined where reports are drafted by hand. */
export function scheduleOf(v: ScheduleValues, zone: string): Schedule | undefined {
  if (v.drafted === '') return undefined
  const when = v.drafted === 'working' ? { working_day: Number(v.working_day) } : { rrule: v.drafted === 'rule' ? v.rrule.trim() : v.drafted }
  return { ...when, at: v.at.trim(), timezone: zone, holiday_lists: v.lists.length ? v.lists : undefined, publish: v.publish || undefined }
}

/** When the reports of a customer are drafted. */
export function ScheduleFields<T extends FieldValues & ScheduleValues>({ form: any, zone }: { form: UseFormReturn<T>; zone: string }) {
  const form = any as unknown as UseFormReturn<ScheduleValues>
  const lists = (useHolidayLists().data ?? []).filter((l) => !l.retired)
  const v = form.watch()
  const err = form.formState.errors
  return (
    <>
      <div className="side">
        <Controller
          control={form.control}
          name="drafted"
          render={({ field }) => (
            <TextField select label="Its reports are drafted" {...field} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
              <MenuItem value="">by hand</MenuItem>
              <MenuItem value="working">on a working day of each month</MenuItem>
              {Object.entries(rules).map(([rule, words]) => (
                <MenuItem key={rule} value={rule}>
                  {words}
                </MenuItem>
              ))}
              <MenuItem value="rule">by a rule</MenuItem>
            </TextField>
          )}
        />
        {v.drafted === 'working' && <TextField label="Which working day" error={Boolean(err.working_day)} helperText={err.working_day?.message} {...form.register('working_day', { validate: (x) => (/^\d+$/.test(x.trim()) && Number(x) >= 1 && Number(x) <= 20) || 'From 1 to 20' })} />}
        {v.drafted === 'rule' && <TextField label="Rule (RFC 5545)" placeholder="FREQ=MONTHLY;BYDAY=2TU" error={Boolean(err.rrule)} helperText={err.rrule?.message} slotProps={{ inputLabel: { shrink: true } }} {...form.register('rrule')} />}
        {v.drafted !== '' && <TextField label="At" error={Boolean(err.at)} helperText={err.at?.message ?? zone} {...form.register('at')} />}
      </div>
      {v.drafted !== '' && (
        <Controller control={form.control} name="publish" render={({ field }) => <FormControlLabel label="Publish at once what has a verdict and no adjustment, where somebody stands for it" control={<Checkbox checked={field.value} onChange={(e) => field.onChange(e.target.checked)} />} />} />
      )}
      {v.drafted !== '' && lists.length > 0 && (
        <Controller
          control={form.control}
          name="lists"
          render={({ field: f }) => (
            <Autocomplete
              multiple
              options={lists}
              value={lists.filter((l) => f.value.includes(l.id))}
              getOptionLabel={(l) => l.spec.name}
              getOptionKey={(l) => l.id}
              onChange={(_, chosen) => f.onChange(chosen.map((l) => l.id))}
              renderInput={(params) => <TextField {...params} label="But not on the days of" error={Boolean(err.lists)} helperText={err.lists?.message} />}
            />
          )}
        />
      )}
    </>
  )
}
