import Alert from '@mui/material/Alert'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Skeleton from '@mui/material/Skeleton'
import type { FieldValues, Path, UseFormSetError } from 'react-hook-form'
import { Problem } from '../api/client'

/** What went wrong, above what it went wrong with. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null
  return (
    <Alert severity="error" className="trouble">
      {error instanceof Error ? error.message : 'Something went wrong.'}
    </Alert>
  )
}

/** In place of a screen whose data have not come: what went wrong, or that they are under way. */
export function Awaited({ error }: { error: unknown }) {
  if (error) return <Trouble error={error} />
  return (
    <div className="awaited" role="status" aria-label="Loading">
      <Skeleton variant="text" width="40%" height={44} />
      <Skeleton variant="text" width="70%" />
      {[0, 1, 2, 3].map((n) => (
        <Skeleton key={n} variant="rounded" height={30} sx={{ my: 2 }} />
      ))}
    </div>
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

/**
 * Shows the faults that a problem names at their fields. names gives the form's field for a path where they
 * differ; a name that ends with a dot stands for all paths below it, and so does what it gives; one that ends
 * with a bracket stands for all of a list, which has one field.
 */
export function showFaults<T extends FieldValues>(error: unknown, setError: UseFormSetError<T>, prefix = '', names: Record<string, string> = {}): void {
  if (!(error instanceof Problem)) return
  for (const [path, message] of Object.entries(error.fields)) {
    if (!path.startsWith(prefix)) continue
    const own = path.slice(prefix.length)
    setError(fieldFor(own, names) as Path<T>, { type: 'server', message }, { shouldFocus: true })
  }
}

function fieldFor(path: string, names: Record<string, string>): string {
  if (names[path] !== undefined) return names[path]
  const above = Object.keys(names).find((n) => /[.[]$/.test(n) && path.startsWith(n))
  if (above === undefined) return path
  const field = names[above] ?? ''
  return above.endsWith('.') && (field === '' || field.endsWith('.')) ? field + path.slice(above.length) : field
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
