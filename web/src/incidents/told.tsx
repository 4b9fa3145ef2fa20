import Typography from '@mui/material/Typography'
import { Link } from 'react-router'
import { HoldsNote } from '../notices/holds'
import { useIncidentNotices, type Delivery } from '../notices/queries'
import { kindWords, listed, stateWords, whatWords } from '../notices/words'
import { Trouble } from '../parts/trouble'
import { clock, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'

/** Who was told of an incident, who is next, and why nobody is where nobody is. */
export function Told({ incident, over, service }: { incident: number; over: boolean; service?: string }) {
  const notices = useIncidentNotices(incident)
  const { zone } = useZone()
  const keep = useKeep()
  const data = notices.data
  if (!data) return <Trouble error={notices.error} />
  return (
    <section aria-label="Who was told" data-told={data.items.length}>
      <Typography variant="h2" className="group">
        Who was told
      </Typography>
      {!over && service && <HoldsNote service={service} />}
      {data.plans.length === 0 && data.items.length === 0 && <p className="sub">No notice plan is for it, so nobody is told. {over ? '' : 'Its service can name one, or its team.'}</p>}
      {!over &&
        data.plans.map((p) => (
          <p key={p.id} className="sub close-by" data-plan={p.id}>
            <Link to={keep(`/notices/plans/${p.id}`)}>{p.name}</Link>
            {p.silence ? `: ${p.silence.charAt(0).toLowerCase()}${p.silence.slice(1)}` : ''}
            {p.until && ` Until ${shortTime(p.until, zone)}.`}
            {p.next ? `${p.silence ? ' Next' : ': next'} ${shortTime(p.next, zone)} ${listed(p.tells)}.` : p.silence ? '' : ': all of its steps are told.'}
          </p>
        ))}
      <ul className="needs tight">
        {groups(data.items).map((g) => (
          <li key={g[0]?.id} className={g.every((d) => d.state === 'sent') ? 'quiet' : g.some((d) => d.state === 'failed') ? 'down' : 'quiet'} data-what={g[0]?.what}>
            <span>
              {clock(g[0]?.due_at ?? '', zone)} {whatWords[g[0]?.what ?? '']}:{' '}
            </span>
            {receivers(g).map((r, i) => (
              <span key={r.name}>
                {i > 0 && ', '}
                {r.name}
                {r.sent.length > 0 && r.person && ` by ${listed(r.sent.map((d) => kindWords[d.kind] ?? d.kind))}`}
                {r.others.map((d) => (
                  <span key={d.id} title={d.answer || d.why}>
                    {' '}
                    {r.person && d.kind ? `by ${kindWords[d.kind] ?? ''} ` : ''}
                    <b className={d.state === 'failed' ? 'word-down' : undefined}>{d.state === 'suppressed' ? `not: ${d.why}` : d.state === 'held' ? d.why : stateWords[d.state]}</b>
                  </span>
                ))}
              </span>
            ))}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Deliveries that belong together: told of the same at the same time, the latest first. */
function groups(items: Delivery[]): Delivery[][] {
  const out = new Map<string, Delivery[]>()
  for (const d of items) {
    const key = `${d.due_at} ${d.what}`
    out.set(key, [...(out.get(key) ?? []), d])
  }
  return [...out.values()].reverse()
}

/** Deliveries of one receiver together: those that were sent, and the others. */
function receivers(list: Delivery[]): { name: string; person: boolean; sent: Delivery[]; others: Delivery[] }[] {
  const shared = ['webhook', 'chat', 'syslog', 'script']
  const out: { name: string; person: boolean; sent: Delivery[]; others: Delivery[] }[] = []
  for (const d of list) {
    let r = out.find((x) => x.name === (d.to || 'nobody'))
    if (!r) out.push((r = { name: d.to || 'nobody', person: !shared.includes(d.kind), sent: [], others: [] }))
    if (d.state === 'sent') r.sent.push(d)
    else r.others.push(d)
  }
  return out
}
