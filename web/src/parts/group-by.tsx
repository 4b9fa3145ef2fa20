import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useSearchParams } from 'react-router'

/** A parameter of the address and how to change it; empty is without. */
export function useParam(name: string): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams()
  const set = (value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value)
        else p.delete(name)
        return p
      },
      { replace: true },
    )
  return [params.get(name) ?? '', set]
}

/** Chooses by what a list is grouped; the address keeps it. */
export function GroupBy({ value, change, of }: { value: string; change: (by: string) => void; of: string[] }) {
  return (
    <TextField select label="Grouped by" value={of.includes(value) ? value : ''} onChange={(e) => change(e.target.value)} sx={{ width: 130 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">nothing</MenuItem>
      {of.map((name) => (
        <MenuItem key={name} value={name}>
          {name}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** The heading of a group: its name, how many there are, and what is to be said of them. */
export function GroupHead({ name, none, count, says }: { name: string; none: string; count: number; says?: string }) {
  return (
    <Typography variant="h2" className="group" data-group={name}>
      {name || none} <span className="sub">{[count, says].filter(Boolean).join(' · ')}</span>
    </Typography>
  )
}
