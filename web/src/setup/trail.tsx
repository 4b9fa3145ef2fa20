import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { type Schemas } from '../api/client'
import { Differences, differences } from '../parts/differences'
import { Day, noDate } from '../parts/day'
import { Trouble } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { SetupHead } from './head'
import { useTrail, useTrailActions, type TrailFilter } from './queries'

type Line = Schemas['TrailLine']

/** A day as typed, as the instant at which it begins; undefined where it is none. */
const dayStart = (day: string, plus = 0) => {
  const at = new Date(`${day}T00:00:00Z`)
  if (!day || Number.isNaN(at.getTime())) return undefined
  return new Date(at.getTime() + plus * 86_400_000).toISOString()
}

/** Everything that was done, by whom and from where; it is only ever added to. */
export function Trail() {
  const [params, setParams] = useSearchParams()
  const { zone } = useZone()
  const get = (name: string) => params.get(name) ?? ''
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params)
    if (value) next.set(name, value)
    else next.delete(name)
    setParams(next, { replace: true })
  }
  const filter: TrailFilter = { person: get('who') || undefined, action: get('did') || undefined, subject: get('what') || undefined, from: dayStart(get('since')), to: dayStart(get('until'), 1) }
  const lines = useTrail(filter)
  const actions = useTrailActions()
  const all = lines.data?.pages.flat()
  const query = new URLSearchParams(Object.entries(filter).filter((e): e is [string, string] => Boolean(e[1])))
  const whose = all?.find((l) => l.person === filter.person)?.name
  return (
    <>
      <SetupHead title="Trail" />
      <Box component="p" className="sub" sx={{ maxWidth: '640px' }}>
        What was done, by whom and from where. It is only ever added to: the role that the server works with can change none of it. Days are UTC here.
      </Box>
      <div className="in-a-row">
        <TextField select label="Did" value={get('did')} sx={{ width: 190 }} onChange={(e) => set('did', e.target.value)}>
          <MenuItem value="">anything</MenuItem>
          {actions.data?.map((a) => (
            <MenuItem key={a} value={a}>
              {a}
            </MenuItem>
          ))}
        </TextField>
        <TextField label="What" placeholder="service ticket-sales" value={get('what')} sx={{ width: 200 }} onChange={(e) => set('what', e.target.value)} />
        <Day label="From" width={180} zone="UTC" value={get('since')} change={(v) => set('since', v === noDate ? '' : v)} />
        <Day label="To" width={180} zone="UTC" value={get('until')} change={(v) => set('until', v === noDate ? '' : v)} />
        {filter.person && (
          <Button variant="text" sx={{ height: 40 }} onClick={() => set('who', '')}>
            {whose ?? 'one person'} only ×
          </Button>
        )}
        <span className="sub">
          export all of it as <a href={`/api/v1/trail/export?${query}`}>CSV</a> or <a href={`/api/v1/trail/export?${query}&format=jsonl`}>JSON lines</a>
        </span>
      </div>
      <Trouble error={lines.error ?? actions.error} />
      {all?.length === 0 && <p>Nothing of that stands in the trail.</p>}
      {Boolean(all?.length) && (
        <Table  sx={{ maxWidth: '1000px' }}>
          <TableHead>
            <TableRow>
              <TableCell>When</TableCell>
              <TableCell>Who</TableCell>
              <TableCell>Did</TableCell>
              <TableCell>What</TableCell>
              <TableCell>From</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {all?.map((l) => (
              <TrailRow key={l.id} line={l} zone={zone} only={(who) => set('who', who)} about={(what) => set('what', what)} />
            ))}
          </TableBody>
        </Table>
      )}
      {lines.hasNextPage && (
        <Button sx={{ marginTop: 1 }} disabled={lines.isFetchingNextPage} onClick={() => void lines.fetchNextPage()}>
          Older ones
        </Button>
      )}
    </>
  )
}

function TrailRow({ line: l, zone, only, about }: { line: Line; zone: string; only: (who: string) => void; about: (what: string) => void }) {
  const [open, setOpen] = useState(false)
  const more = differences(l.before, l.detail)
  const [kind] = l.subject.split(' ', 1)
  return (
    <>
      <TableRow data-trail={l.id}>
        <TableCell title={l.at}>{shortTime(l.at, zone)}</TableCell>
        <TableCell>
          {l.person ? (
            <button type="button" className="narrow" onClick={() => only(l.person ?? '')}>
              {l.name}
            </button>
          ) : (
            l.name
          )}
        </TableCell>
        <TableCell>
          {l.action}{' '}
          {more.length > 0 && (
            <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? 'less' : 'more'}
            </button>
          )}
        </TableCell>
        <TableCell>
          <button type="button" className="narrow" title={`${l.subject}: only lines about it`} onClick={() => about(l.subject)}>
            {l.of ? `${kind} ${l.of}` : l.subject}
          </button>
        </TableCell>
        <TableCell>{l.source}</TableCell>
      </TableRow>
      {open && (
        <TableRow>
          <TableCell />
          <TableCell colSpan={4}>
            <Differences list={more} />
          </TableCell>
        </TableRow>
      )}
    </>
  )
}
