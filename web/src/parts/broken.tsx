import Button from '@mui/material/Button'
import { Link, useRouteError } from 'react-router'

/** Shown when a screen fails: what happened, and a way on. */
export function Broken() {
  const error = useRouteError()
  const text = error instanceof Error ? error.message : 'unknown'
  return (
    <div className="centre">
      <div className="card">
        <h1>This screen broke</h1>
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
      <h1>There is nothing at this address</h1>
      <p>
        It may have been mistyped, or what was here was retired. <Link to="/">Go to Standing</Link>, or press / to find something by its name.
      </p>
    </div>
  )
}
