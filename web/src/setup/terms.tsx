import TextField from '@mui/material/TextField'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { decimal, validAmount, validTarget } from '../parts/decimal'

type Terms = Schemas['CreditTerms']

/** What limits the credits of a contract, as fields hold it. */
export type TermValues = { period_percent: string; year_amount: string; currency: string; year_starts: string; claim_days: string }

export const termValues = (t: Terms | undefined): TermValues => ({
  period_percent: t?.period_percent ?? '',
  year_amount: t?.year_amount ?? '',
  currency: t?.currency ?? '',
  year_starts: t?.year_starts ?? '',
  claim_days: t?.claim_days ? String(t.claim_days) : '',
})

/** The limits that the fields describe; undefined where there are none. */
export function termsOf(v: TermValues): Terms | undefined {
  const out: Terms = {
    period_percent: decimal(v.period_percent) || undefined,
    year_amount: decimal(v.year_amount) || undefined,
    currency: v.currency.trim().toUpperCase() || undefined,
    year_starts: v.year_starts.trim() || undefined,
    claim_days: v.claim_days.trim() ? Number(v.claim_days) : undefined,
  }
  return Object.values(out).some((x) => x !== undefined) ? out : undefined
}

/** The limits of credits under a contract. */
export function TermFields<T extends FieldValues & TermValues>({ form: any }: { form: UseFormReturn<T> }) {
  const form = any as unknown as UseFormReturn<TermValues>
  const err = form.formState.errors
  const field = (name: keyof TermValues, label: string, help: string, unit: string, validate: (v: string) => string | true) => (
    <TextField label={label} error={Boolean(err[name])} helperText={err[name]?.message ?? help} slotProps={{ input: { endAdornment: unit || undefined }, inputLabel: { shrink: true } }} {...form.register(name, { validate })} />
  )
  return (
    <fieldset aria-label="What limits credits">
      <legend>What limits credits</legend>
      <div className="side">
        {field('period_percent', 'Of the fees of a period, at most', 'Empty: no limit', '%', (v) => v.trim() === '' || validTarget(v))}
        {field('claim_days', 'Claimed within', 'of the report; empty: no limit', 'days', (v) => /^\d*$/.test(v.trim()) || 'A whole number')}
      </div>
      <div className="side">
        {field('year_amount', 'In a contract year, at most', 'Empty: no limit', '', validAmount)}
        {field('currency', 'Currency', 'NOK', '', (v) => /^([A-Za-z]{3})?$/.test(v.trim()) || 'Three letters')}
        {field('year_starts', 'Years start on', 'Month and day, 04-01; empty: 1 January', '', (v) => /^(\d\d-\d\d)?$/.test(v.trim()) || 'Month and day, 04-01')}
      </div>
    </fieldset>
  )
}
