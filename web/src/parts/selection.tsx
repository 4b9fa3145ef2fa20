import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useSelected } from '../api/queries'
import { useParam } from './group-by'

/** The selection that a list is narrowed to; the address keeps it. */
export function useSelection(of: 'services' | 'checks') {
  const [id, change] = useParam('selection')
  const all = useSelected().data
  const chosen = all?.find((s) => s.id === id)
  const ids = chosen && new Set(chosen[of])
  // One that is not known yet, or no more, narrows to nothing rather than to everything.
  return { id, change, all: all ?? [], has: (member: string) => id === '' || (ids?.has(member) ?? false) }
}

/** Chooses a selection; nothing where there is none to choose. */
export function SelectionPick({ of }: { of: ReturnType<typeof useSelection> }) {
  if (of.all.length === 0 && of.id === '') return null
  return (
    <TextField select label="In the selection" value={of.id} onChange={(e) => of.change(e.target.value)} sx={{ width: 150 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">everything</MenuItem>
      {of.id !== '' && !of.all.some((s) => s.id === of.id) && <MenuItem value={of.id}>one that is gone</MenuItem>}
      {of.all.map((s) => (
        <MenuItem key={s.id} value={s.id}>
          {s.name}
        </MenuItem>
      ))}
    </TextField>
  )
}
