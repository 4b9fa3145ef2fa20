import Button from '@mui/material/Button'
import Stack from '@mui/material/Stack'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Fragment, useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { Choice } from '../parts/choice'
import { useParam } from '../parts/group-by'
import { useFind } from '../parts/more'
import { Export } from '../parts/export'
import { Awaited, Trouble } from '../parts/trouble'
import { duration, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { NoticesNav } from './head'
import { useDeliveries, type Delivery } from './queries'
import { kindWords, stateWords, whatWords } from './words'

/** What became of each notice, with what the remote answered. */
export function DeliveriesPage() {
  const [find, text, setText] = useFind()
  const [state, setState] = useParam('state')
  const [kind, setKind] = useParam('kind')
  const pages = useDeliveries({ find, state, kind })
  const [open, setOpen] = useState(0)
  const list = pages.data?.pages.flatMap((p) => p.items)
  const { zone } = useZone()
  if (!list) return <Awaited error={pages.error} />
  const narrowed = Boolean(text || state || kind)
  return (
    <>
      <NoticesNav />
      <div className="head">
        <Typography variant="h1">Deliveries</Typography>
        <div className="actions">
          <Export name="deliveries" columns={['due', 'done', 'what', 'incident', 'to', 'by', 'address', 'state', 'why', 'answer', 'late_ms', 'tries', 'maybe_twice']} rows={list.map((d) => [d.due_at, d.at ?? '', d.what, d.incident ? String(d.incident) : '', d.to, d.kind, d.address, d.state, d.why, d.answer, String(d.late_ms), String(d.tries), String(d.maybe_twice)])} />
        </div>
      </div>
      <Stack direction="row" sx={{ flexWrap: 'wrap', gap: 1.5, mb: 2 }}>
        <TextField label="Search" placeholder="subject, address or answer" value={text} sx={{ width: 250 }} slotProps={{ htmlInput: { maxLength: 200 }, inputLabel: { shrink: true } }} onChange={(e) => setText(e.target.value)} />
        <Choice label="Became" value={state} change={setState} of={{ '': 'anything', ...stateWords }} />
        <Choice label="By" value={kind} change={setKind} of={{ '': 'anything', ...Object.fromEntries(Object.entries(kindWords).filter(([k]) => k)) }} />
      </Stack>
      <Trouble error={pages.error} />
      {list.length === 0 && <div className="empty">{narrowed ? 'No delivery matches.' : 'Nothing was to be told yet. When an incident opens, what is told of it stands here, with what the remote answered.'}</div>}
      {list.length > 0 && (
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>Due</TableCell>
              <TableCell>What of</TableCell>
              <TableCell>To</TableCell>
              <TableCell>By</TableCell>
              <TableCell>Became</TableCell>
              <TableCell>Answer</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((d) => (
              <Fragment key={d.id}>
                <TableRow data-delivery={d.id} data-state={d.state}>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>{shortTime(d.due_at, zone)}</TableCell>
                  <TableCell>
                    {d.incident ? (
                      <button type="button" className="narrow" aria-expanded={open === d.id} onClick={() => setOpen(open === d.id ? 0 : d.id)}>
                        <b>{d.about}</b>: {whatWords[d.what]}
                      </button>
                    ) : (
                      <button type="button" className="narrow" aria-expanded={open === d.id} onClick={() => setOpen(open === d.id ? 0 : d.id)}>
                        {whatWords[d.what] ?? d.what}
                        {d.subject && `: ${d.subject}`}
                      </button>
                    )}
                  </TableCell>
                  <TableCell>{d.to || 'nobody'}</TableCell>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>
                    {kindWords[d.kind]}
                    {d.address && <div className="sub">{d.address}</div>}
                  </TableCell>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>
                    <b className={d.state === 'failed' ? 'word-down' : d.state === 'sent' ? undefined : 'word-unmeasured'}>{stateWords[d.state]}</b>
                    {d.late_ms >= 60_000 && <div className="sub">{duration(d.late_ms)} late</div>}
                    {d.maybe_twice && <div className="sub">may have arrived twice</div>}
                  </TableCell>
                  <TableCell className="sub" sx={{ maxWidth: 300, overflowWrap: 'anywhere' }}>{d.state === 'suppressed' || d.state === 'held' ? d.why : d.answer}</TableCell>
                </TableRow>
                {open === d.id && (
                  <TableRow>
                    <TableCell colSpan={6}>
                      <Message d={d} />
                    </TableCell>
                  </TableRow>
                )}
              </Fragment>
            ))}
          </TableBody>
        </Table>
      )}
      {pages.hasNextPage && (
        <Button variant="text" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          {pages.isFetchingNextPage ? 'Loading…' : 'A hundred more'}
        </Button>
      )}
    </>
  )
}

/** What was sent, how often it was tried, and sending it again. */
function Message({ d }: { d: Delivery }) {
  const keep = useKeep()
  const { zone } = useZone()
  const again = useChange({
    mutationFn: () => ask(api.POST('/api/v1/deliveries/{id}/again', { params: { path: { id: d.id } } })),
    again: ['deliveries'],
  })
  return (
    <div className="handed">
      {d.subject && <b>{d.subject}</b>}
      <div className="as-written">{d.text || 'Nothing was written for it.'}</div>
      <p className="sub">
        {d.plan && `By ${d.plan}${d.step ? `, step ${d.step}` : ''}. `}
        {d.tries > 0 && `Tried ${d.tries === 1 ? 'once' : `${d.tries} times`}. `}
        {d.at && `${stateWords[d.state] ?? ''} ${shortTime(d.at, zone)}. `}
        {d.next_at && `Tried next ${shortTime(d.next_at, zone)}. `}
        {d.why && `${d.why}. `}
        {d.again_of && `Sent again by hand, after number ${d.again_of}. `}
        {d.incident && <Link to={keep(`/incidents/${d.incident}`)}>the incident</Link>}
        {d.repeatable && (
          <button type="button" className="link" disabled={again.isPending} onClick={() => again.mutate()}>
            send it again
          </button>
        )}
      </p>
      {again.isSuccess && <p role="status">It is sent again, as number {again.data.id}.</p>}
      <Trouble error={again.error} />
    </div>
  )
}
