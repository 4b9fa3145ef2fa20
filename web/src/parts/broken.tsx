import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { Link, useRouteError } from 'react-router'

/** Shown when a screen fails: what happened, and a way on. */
export function Broken() {
  const error = useRouteError()
  const text = error instanceof Error ? error.message : 'unknown'
  return (
    <div className="centre">
      <div className="card">
        <Typography variant="h1">This screen broke</Typography>
        <p className="trouble">{text}</p>
        <p>Nothing stored was harmed. If Kestite was updated meanwhile, loading the page again mends it.</p>
        <Button onClick={() => window.location.reload()}>Load again</Button>
      </div>
    </div>
  )
}

/** Shown for an address that leads nowhere. */
export function NotHere() {
  return (
    <div className="empty">
      <Typography variant="h1">There is nothing at this address</Typography>
      <p>
        It may have been mistyped, or what was here was retired. <Link to="/">Go to Standing</Link>, or press / to find something by its name.
      </p>
    </div>
  )
}
