import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Controller, useFieldArray } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { useKinds, useMayDefine } from '../api/queries'
import { decimal } from '../parts/decimal'
import { faultAt, type DraftForm } from './kind-fields'
import './limits.css'

type Limit = Schemas['Limit']
type Way = 'once' | 'in_a_row' | 'for_s' | 'mean_s'

const ways: Record<Way, string> = { once: 'at once', in_a_row: 'times in a row', for_s: 's without a pause', mean_s: 's on the mean' }
const wayOf = (l: Limit): Way => (l.in_a_row ? 'in_a_row' : l.for_s ? 'for_s' : l.mean_s ? 'mean_s' : 'once')
const sideOf = (l: Limit): 'above' | 'below' => (l.degraded_below !== undefined || l.failed_below !== undefined ? 'below' : 'above')

/** The limits of a check: which measure, which way, from where on, and for how long. */
export function LimitFields({ form, effect }: { form: DraftForm; effect: Schemas['Effect'] | undefined }) {
  const limits = useFieldArray({ control: form.control, name: 'limits' })
  const kind = form.watch('kind')
  const may = useMayDefine()
  const of = useKinds().data?.find((k) => k.name === kind)
  const all = of?.measures ?? []
  return (
    <Box sx={{ display: 'grid', gap: '10px' }}>
      {limits.fields.map((f, i) => (
        <Controller
          key={f.id}
          control={form.control}
          name={`limits.${i}`}
          render={({ field: { value, onChange } }) =>
            value ? (
              <LimitRow limit={value} change={onChange} measures={all} fault={faultAt(form, `limits.${i}`)} fine={effect?.limits[i]} remove={may ? () => limits.remove(i) : undefined} />
            ) : (
              <></>
            )
          }
        />
      ))}
      <div>
        {may && (
          <Button variant="text" onClick={() => limits.append({ measure: of?.limit ?? '' })}>
            Add a limit
          </Button>
        )}
        {limits.fields.length === 0 && <span className="sub"> Without limits it fails only when nothing, or the wrong thing, answers.</span>}
      </div>
    </Box>
  )
}

/** A bound as people write it; NaN while it is no number. */
function Bound({ label, value, change, unit }: { label: string; value: number | undefined; change: (v: number | undefined) => void; unit: string | undefined }) {
  const [text, setText] = useState('')
  const typed = decimal(text)
  const read = typed === '' ? undefined : Number(typed)
  const shown = Object.is(read, value) ? text : value === undefined || Number.isNaN(value) ? '' : String(value)
  return (
    <TextField
      label={label}
      value={shown}
      onChange={(e) => {
        const d = decimal(e.target.value)
        setText(e.target.value)
        change(d === '' ? undefined : Number(d))
      }}
      slotProps={{ input: { endAdornment: unit }, htmlInput: { inputMode: 'decimal' } }}
    />
  )
}

/** One limit. */
export function LimitRow({ limit: l, change, measures, fault, fine, remove }: { limit: Limit; change: (l: Limit) => void; measures: Schemas['Measure'][]; fault?: string; fine?: string; remove: (() => void) | undefined }) {
  const side = sideOf(l)
  const way = wayOf(l)
  const m = measures.find((x) => x.name === l.measure)
  const number = (v: string) => (v.trim() === '' ? undefined : Number(v))
  const rest = { measure: l.measure, in_a_row: l.in_a_row, for_s: l.for_s, mean_s: l.mean_s }
  const bound = (word: 'degraded' | 'failed') => l[`${word}_${side}`]
  const sides = (s: 'above' | 'below', degraded = bound('degraded'), failed = bound('failed')) => change({ ...rest, [`degraded_${s}`]: degraded, [`failed_${s}`]: failed })
  const wrong = (v: number | undefined) => m !== undefined && v !== undefined && (Number.isNaN(v) || v < m.low || v > m.high)
  const impossible = wrong(bound('degraded')) || wrong(bound('failed'))
  const timed = (w: Way, n: number | undefined) => {
    const { in_a_row, for_s, mean_s, ...bounds } = l
    void [in_a_row, for_s, mean_s]
    change(w === 'once' ? bounds : { ...bounds, [w]: n })
  }
  const n = way === 'once' ? undefined : l[way]
  return (
    <div className="limit">
      <div className="bounds">
        <TextField select label="Measure" value={l.measure} onChange={(e) => change({ ...rest, measure: e.target.value })}>
          {measures.map((x) => (
            <MenuItem key={x.name} value={x.name}>
              {x.text}
            </MenuItem>
          ))}
        </TextField>
        <TextField select label="Bad is" value={side} onChange={(e) => sides(e.target.value as 'above' | 'below')}>
          <MenuItem value="above">above</MenuItem>
          <MenuItem value="below">below</MenuItem>
        </TextField>
        <Bound label="Degraded" value={bound('degraded')} change={(v) => sides(side, v)} unit={m?.unit} />
        <Bound label="Failed" value={bound('failed')} change={(v) => sides(side, bound('degraded'), v)} unit={m?.unit} />
        <TextField select label="For" value={way} onChange={(e) => timed(e.target.value as Way, e.target.value === 'in_a_row' ? 3 : 300)}>
          {Object.entries(ways).map(([w, text]) => (
            <MenuItem key={w} value={w}>
              {text}
            </MenuItem>
          ))}
        </TextField>
        {way !== 'once' && <TextField label={way === 'in_a_row' ? 'How many' : 'Seconds'} type="number" value={n ?? ''} onChange={(e) => timed(way, number(e.target.value))} />}
        {remove && (
          <Button variant="text" aria-label="Take this limit away" onClick={remove}>
            ×
          </Button>
        )}
      </div>
      {m && impossible && (
        <p className="trouble">
          {m.text} lies between {m.low} and {m.high} {m.unit}.
        </p>
      )}
      {fault && <p className="trouble">{fault}</p>}
      {fine && <p className="sub">{fine}</p>}
    </div>
  )
}
