import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import type { Schemas } from '../api/client'

type Weekly = Schemas['WeeklyPlan']
type Row = Schemas['WeeklyRow']

const names: Record<string, string> = { MO: 'Monday', TU: 'Tuesday', WE: 'Wednesday', TH: 'Thursday', FR: 'Friday', SA: 'Saturday', SU: 'Sunday' }

type Props = { label: string; value: Weekly | undefined; change: (w: Weekly | undefined) => void; zone: string; error?: string }

/** Hours by the week in which something is so, or always. */
export function Week({ label, value, change, zone, error }: Props) {
  const rows = value?.weekly ?? []
  const set = (weekly: Row[]) => change({ timezone: value?.timezone ?? zone, holidays: value?.holidays ?? [], weekly })
  const [off, setOff] = useState((value?.holidays ?? []).join(', '))
  const daysOff = (text: string) => {
    setOff(text)
    if (value) change({ ...value, holidays: text.split(',').map((d) => d.trim()).filter(Boolean) })
  }
  const edit = (i: number, r: Partial<Row>) => set(rows.map((row, n) => (n === i ? { ...row, ...r } : row)))
  return (
    <div className="rows">
      <FormControlLabel
        label={label}
        control={<Checkbox size="small" checked={value !== undefined} onChange={(e) => (e.target.checked ? set([{ days: ['MO', 'TU', 'WE', 'TH', 'FR'], from: '08:00', to: '16:00' }]) : change(undefined))} />}
      />
      {rows.map((r, i) => (
        <div className="row" key={i}>
          <TextField select label="Days" value={r.days ?? []} onChange={(e) => edit(i, { days: e.target.value as unknown as string[] })} slotProps={{ select: { multiple: true, renderValue: (v) => (v as string[]).map((d) => names[d]?.slice(0, 3)).join(', ') } }}>
            {Object.entries(names).map(([d, name]) => (
              <MenuItem key={d} value={d}>
                {name}
              </MenuItem>
            ))}
          </TextField>
          <TextField label="From" value={r.from} onChange={(e) => edit(i, { from: e.target.value })} />
          <TextField label="To" value={r.to} onChange={(e) => edit(i, { to: e.target.value })} />
          <Button variant="text" disabled={rows.length === 1} onClick={() => set(rows.filter((_, n) => n !== i))} aria-label={`Take out row ${i + 1}`}>
            Take out
          </Button>
        </div>
      ))}
      {value && <TextField label="But on no such day" placeholder="2026-12-24, 2026-12-25" value={off} helperText="Days off, as 2026-12-24, with commas between them" onChange={(e) => daysOff(e.target.value)} />}
      {value && (
        <div className="in-a-row tight">
          <TextField label="On the clocks of" value={value.timezone} error={Boolean(error)} helperText={error} onChange={(e) => change({ ...value, timezone: e.target.value })} />
          <Button onClick={() => set([...rows, { days: ['SA', 'SU'], from: '10:00', to: '18:00' }])}>Add a row of hours</Button>
        </div>
      )}
    </div>
  )
}
