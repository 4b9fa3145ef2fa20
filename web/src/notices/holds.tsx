import Alert from '@mui/material/Alert'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMay } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { useHolds } from './queries'

type Held = Schemas['HoldView']

/** Says which notices are held now: of one service, or all. Nothing where none are. */
export function HoldsNote({ service }: { service?: string }) {
  const holds = (useHolds().data ?? []).filter((h) => h.now && (!service || h.service === service))
  if (holds.length === 0) return null
  return (
    <Alert severity="info" role="status" className="trouble" sx={{ borderColor: 'var(--maintenance)', my: 1.5, maxWidth: 860 }} data-holds={holds.length}>
      {holds.map((h) => (
        <One key={h.id} hold={h} named={!service || h.about === 'check'} />
      ))}
    </Alert>
  )
}

function One({ hold: h, named }: { hold: Held; named: boolean }) {
  const may = useMay()('operate')
  const keep = useKeep()
  const { zone } = useZone()
  const end = useChange({ mutationFn: () => ask(api.DELETE('/api/v1/holds/{id}', { params: { path: { id: h.id } } })), again: 'all' })
  return (
    <div data-hold={h.subject}>
      Notices {named && <>of {h.service ? <Link to={keep(`/services/${h.service}`)}>{h.name}</Link> : h.name} </>}are held until {shortTime(h.until, zone)} by {h.by}: {h.reason}. Measuring and accounts go on.{' '}
      {may && (
        <button type="button" className="link" disabled={end.isPending} onClick={() => end.mutate()}>
          end it now
        </button>
      )}
      <Trouble error={end.error} />
    </div>
  )
}
