import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { Awaited, Trouble } from '../parts/trouble'
import { useHeading } from '../shell/heading'
import { useAcknowledgement } from './queries'

/** Acknowledges an incident by the link of a message; its token stands behind # and so in no log. */
export function Acknowledge() {
  useHeading()
  const [token] = useState(() => window.location.hash.slice(1))
  const link = useAcknowledgement(token)
  const act = useChange({ mutationFn: () => ask(api.POST('/api/v1/acknowledgements', { body: { token } })) })
  const l = link.data
  return (
    <main className="centre">
      <div className="card">
        <Typography variant="h1">Acknowledge</Typography>
        {token === '' && <Trouble error={new Error('The link is incomplete: open it as it was sent, with what stands behind #.')} />}
        {token !== '' && !l && <Awaited error={link.error} />}
        {l && (
          <>
            <p>
              <b>{l.severity}</b>: {l.headline}
            </p>
            {act.isSuccess ? (
              <p role="status">You are on it, {l.person}. Nobody is told further while that is so.</p>
            ) : l.over ? (
              <p>It is over: there is nothing to acknowledge any more.</p>
            ) : (
              <>
                <p className="sub">{l.acknowledged ? `${l.acknowledged} has acknowledged it already.` : `You acknowledge it as ${l.person}: the others are not told further, and see that you are on it. The link works once.`}</p>
                <Trouble error={act.error} />
                <Button variant="contained" disabled={act.isPending} onClick={() => act.mutate()}>
                  I am on it
                </Button>
              </>
            )}
          </>
        )}
        <Link to={l ? `/incidents/${l.incident}` : '/incidents'}>Sign in and see the incident</Link>
      </div>
    </main>
  )
}
