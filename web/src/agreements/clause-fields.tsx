import Autocomplete from '@mui/material/Autocomplete'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, useFieldArray, type UseFormReturn } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { validAmount, validTarget } from '../parts/decimal'
import type { Values } from './values'

const number = { value: /^\d+(\.\d+)?$/, message: 'A number' }
const whole = { value: /^\d*$/, message: 'A whole number' }

/** Whose failures do not count. */
export function UpstreamFields({ form, services }: { form: UseFormReturn<Values>; services: Schemas['DefinedServiceSpec'][] }) {
  const err = form.formState.errors
  const own = form.watch('service')
  const choice = services.filter((s) => s.id !== own)
  const excused = form.watch('excuse')
  return (
    <>
      <Controller
        control={form.control}
        name="excuse"
        render={({ field: f }) => (
          <Autocomplete
            multiple
            options={choice}
            value={choice.filter((s) => f.value.includes(s.id))}
            getOptionLabel={(s) => s.spec.name}
            getOptionKey={(s) => s.id}
            onChange={(_, list) => f.onChange(list.map((s) => s.id))}
            renderInput={(params) => <TextField {...params} label="Time down while one of these fails is excused" placeholder={f.value.length ? '' : 'none'} error={Boolean(err.excuse)} helperText={err.excuse?.message} />}
          />
        )}
      />
      {excused.length > 0 && (
        <div className="side">
          <TextField label="Also this long before it" slotProps={{ input: { endAdornment: 's' } }} error={Boolean(err.lead_s)} helperText={err.lead_s?.message} {...form.register('lead_s', { pattern: whole })} />
          <TextField label="And this long after it" slotProps={{ input: { endAdornment: 's' } }} error={Boolean(err.linger_s)} helperText={err.linger_s?.message} {...form.register('linger_s', { pattern: whole })} />
        </div>
      )}
    </>
  )
}

/** What is owed below which availability. */
export function CreditFields({ form, may }: { form: UseFormReturn<Values>; may: boolean }) {
  const rows = useFieldArray({ control: form.control, name: 'credits' })
  const err = form.formState.errors.credits
  const percent = { input: { endAdornment: '%' }, inputLabel: { shrink: true } }
  const errs = form.formState.errors
  return (
    <div className="rows" data-credits>
      <div className="side">
        <TextField label="Fee a period" helperText={errs.fee?.message ?? 'Empty: none'} error={Boolean(errs.fee)} {...form.register('fee', { validate: validAmount })} />
        <TextField label="Currency" placeholder="NOK" error={Boolean(errs.currency)} helperText={errs.currency?.message} slotProps={{ htmlInput: { maxLength: 3 }, inputLabel: { shrink: true } }} {...form.register('currency', { validate: (x, all) => all.fee.trim() === '' || /^[A-Za-z]{3}$/.test(x.trim()) || 'Three letters' })} />
      </div>
      {rows.fields.map((row, i) => (
        <div className="row" key={row.id}>
          <TextField label="Below an availability of" slotProps={percent} error={Boolean(err?.[i]?.below_percent)} helperText={err?.[i]?.below_percent?.message} {...form.register(`credits.${i}.below_percent`, { validate: validTarget })} />
          <TextField label="A credit of" slotProps={percent} error={Boolean(err?.[i]?.credit_percent)} helperText={err?.[i]?.credit_percent?.message} {...form.register(`credits.${i}.credit_percent`, { validate: validTarget })} />
          <Button variant="text" onClick={() => rows.remove(i)} aria-label={`Take out credit ${i + 1}`}>
            Take out
          </Button>
        </div>
      ))}
      <div hidden={!may}>
        <Button variant="outlined" onClick={() => rows.append({ below_percent: rows.fields.length ? '' : form.getValues('target_percent'), credit_percent: '' })}>
          Add a credit
        </Button>
      </div>
    </div>
  )
}

/** That answers come in time. */
export function LatencyFields({ form, checks }: { form: UseFormReturn<Values>; checks: Schemas['DefinedCheckSpec'][] }) {
  const err = form.formState.errors
  const service = form.watch('service')
  const check = form.watch('latency_check')
  const choice = checks.filter((c) => c.spec.service === service && (!c.retired || c.id === check))
  return (
    <div className="side">
      <Controller
        control={form.control}
        name="latency_check"
        render={({ field: f }) => (
          <TextField select label="Answers in time, of the check" {...f} error={Boolean(err.latency_check)} helperText={err.latency_check?.message} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            <MenuItem value="">not promised</MenuItem>
            {choice.map((c) => (
              <MenuItem key={c.id} value={c.id}>
                {c.spec.name}
              </MenuItem>
            ))}
          </TextField>
        )}
      />
      {check && (
        <>
          <TextField label="Within" slotProps={{ input: { endAdornment: 'ms' }, inputLabel: { shrink: true } }} error={Boolean(err.latency_limit_ms)} helperText={err.latency_limit_ms?.message} {...form.register('latency_limit_ms', { required: 'Say how soon', pattern: number })} />
          <TextField label="This share of them" slotProps={{ input: { endAdornment: '%' }, inputLabel: { shrink: true } }} error={Boolean(err.latency_percent)} helperText={err.latency_percent?.message} {...form.register('latency_percent', { validate: validTarget })} />
        </>
      )}
    </div>
  )
}
