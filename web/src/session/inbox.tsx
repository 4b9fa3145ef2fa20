import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { useInbox } from '../notices/queries'
import { Awaited, Trouble } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'

/** Notices that were for me, the latest first. */
export function Inbox() {
  const inbox = useInbox(true)
  const keep = useKeep()
  const { zone } = useZone()
  const latest = inbox.data?.items[0]?.id ?? 0
  const read = useChange({
    mutationFn: () => ask(api.PUT('/api/v1/me/inbox/read', { body: { up_to: latest } })),
    again: ['inbox'],
  })
  if (!inbox.data) return <Awaited error={inbox.error} />
  const { items, unread } = inbox.data
  return (
    <>
      <div className="head">
        <Typography variant="h1">Inbox</Typography>
        <div className="actions">
          {unread > 0 && (
            <Button variant="outlined" disabled={read.isPending} onClick={() => read.mutate()}>
              I have read {unread === 1 ? 'it' : `all ${unread}`}
            </Button>
          )}
        </div>
      </div>
      <p className="lead">
        Everything that notice plans tell you lies here too, whatever else reaches you. By what else you are reached is said in <Link to={keep('/you')}>your account</Link>.
      </p>
      <Trouble error={inbox.error ?? read.error} />
      {items.length === 0 && <div className="empty">Nothing was told to you yet.</div>}
      {items.map((i) => (
        <section key={i.id} className="entry" data-inbox={i.id} aria-label={i.subject}>
          <div className={i.read ? undefined : 'name'}>
            {i.incident ? <Link to={keep(`/incidents/${i.incident}`)}>{i.subject}</Link> : i.subject}
          </div>
          <div className="sub">
            {shortTime(i.at, zone)}
            {i.read ? '' : ' · not read'}
          </div>
          <div className="as-written">{i.text.split('\n').filter((l) => !l.startsWith('http')).join('\n').trim()}</div>
        </section>
      ))}
    </>
  )
}
