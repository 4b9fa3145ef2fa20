import Button from '@mui/material/Button'
import type { ReactNode } from 'react'
import { Trouble } from './trouble'

type Props = {
  /** What is wrong with the whole, above the buttons. */
  error?: unknown
  busy?: boolean
  /** Why it cannot be saved yet: the button is disabled. */
  not?: boolean
  /** What saving it is called: "Add", "Save as revision 3". */
  save: string
  /** Gives it up; absent: there is nothing to go back to. */
  leave?: () => void
  children?: ReactNode
}

/** The end of a form: what went wrong, saving it, leaving it. */
export function FormEnd({ error, busy, not, save, leave, children }: Props) {
  return (
    <>
      <Trouble error={error} />
      <div className="in-a-row tight">
        <Button type="submit" variant="contained" disabled={busy || not}>
          {save}
        </Button>
        {leave && (
          <Button variant="text" onClick={leave}>
            Leave it
          </Button>
        )}
        {children}
      </div>
    </>
  )
}
