import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'

/** Narrows a list by one of a few values. */
export function Choice({ label, value, change, of }: { label: string; value: string; change: (v: string) => void; of: Record<string, string> }) {
  return (
    <TextField select label={label} value={value in of ? value : ''} onChange={(e) => change(e.target.value)} sx={{ width: 130 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      {Object.entries(of).map(([v, name]) => (
        <MenuItem key={v} value={v}>
          {name}
        </MenuItem>
      ))}
    </TextField>
  )
}
