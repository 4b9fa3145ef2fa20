import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import type { FieldValues, Path, UseFormSetError } from 'react-hook-form'
import { Problem } from '../api/client'

/** What went wrong, above what it went wrong with. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null
  return (
    <p className="trouble" role="alert">
      {error instanceof Error ? error.message : 'Something went wrong.'}
    </p>
  )
}

/** In place of a strip and its figures: why there are none. */
export function NoAccount({ why }: { why: string }) {
  return (
    <span className="no-account">
      <b className="word-unmeasured">cannot be accounted</b> {why}
    </span>
  )
}

/** Shows the faults that a problem names at their fields. names gives the form's field for a path where they differ. */
export function showFaults<T extends FieldValues>(error: unknown, setError: UseFormSetError<T>, prefix = '', names: Record<string, Path<T>> = {}): void {
  if (!(error instanceof Problem)) return
  for (const [path, message] of Object.entries(error.fields)) {
    if (!path.startsWith(prefix)) continue
    const own = path.slice(prefix.length)
    setError(names[own] ?? (own as Path<T>), { type: 'server', message })
  }
}

/** Asks before something that takes away. */
export function Confirm({ open, title, text, act, busy, onYes, onNo }: { open: boolean; title: string; text: string; act: string; busy?: boolean; onYes: () => void; onNo: () => void }) {
  return (
    <Dialog open={open} onClose={onNo}>
      <DialogTitle>{title}</DialogTitle>
      <DialogContent>{text}</DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onNo} autoFocus>
          Leave it
        </Button>
        <Button color="error" onClick={onYes} disabled={busy}>
          {act}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
