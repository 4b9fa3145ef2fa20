import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

export const useLayouts = () => useQuery({ queryKey: ['layouts'], queryFn: () => ask(api.GET('/api/v1/layouts')).then((l) => l.items) })

/** Chooses how reports look. */
export function LayoutPick({ value, change, blank, error }: { value: string; change: (id: string) => void; blank: string; error?: string }) {
  const list = (useLayouts().data ?? []).filter((l) => !l.retired || l.id === value)
  return (
    <TextField select label="Layout of its reports" value={list.some((l) => l.id === value) ? value : ''} onChange={(e) => change(e.target.value)} error={Boolean(error)} helperText={error} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">{blank}</MenuItem>
      {list.map((l) => (
        <MenuItem key={l.id} value={l.id}>
          {l.spec.name}
        </MenuItem>
      ))}
    </TextField>
  )
}
