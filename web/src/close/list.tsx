import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { useMay } from '../api/queries'
import { counted } from '../parts/counted'
import { Export } from '../parts/export'
import { useParam } from '../parts/group-by'
import { More, useFind, useShown } from '../parts/more'
import { SortCell, useSort } from '../parts/sort'
import { Awaited, Trouble } from '../parts/trouble'
import { percent, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { askClose, freeze, useCloses, type Line } from './queries'
import { openWords } from './words'

/** How far the close of a period is: agreements with what is open, what can be frozen, what is published. */
export function CloseList() {
  const [of, setOf] = useParam('of') // what ended last, whatever span other screens show
  const closes = useCloses(of || undefined)
  const { zone } = useZone()
  const may = useMay()
  const [find, text, setText] = useFind()
  const [most, more] = useShown()
  const sort = useSort<Line>(
    {
      open: (l) => -l.left,
      agreement: (l) => l.agreement.name,
      customer: (l) => l.customer,
      availability: (l) => Number(l.availability_percent ?? 101),
      verdict: (l) => l.verdict ?? '',
      state: (l) => (l.report ? 2 : l.frozen_at ? 1 : 0),
    },
    'open',
  )
  if (!closes.data) return <Awaited error={closes.error} />
  const { lines, span: band } = closes.data
  const left = lines.reduce((n, l) => n + (l.frozen_at ? 0 : l.left), 0)
  const all = lines.reduce((n, l) => n + l.all, 0)
  const ready = lines.filter((l) => l.left === 0 && !l.frozen_at && !l.report && l.verdict)
  const wait = lines.filter((l) => l.left > 0 && !l.frozen_at)
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const matching = sort.sorted(lines.filter((l) => words.every((w) => `${l.agreement.name} ${l.customer} ${l.service.name} ${l.period.words} ${l.verdict ?? ''} ${openWords(l)}`.toLowerCase().includes(w))))
  const shown = matching.slice(0, most)
  const headline = lines.length === 0 ? `${band.words}: nothing to close.` : `${band.words}: ${left === 0 ? 'no question is open' : `${left} of ${counted(all, 'question')} ${left === 1 ? 'is' : 'are'} open`}. ${counted(ready.length, 'agreement')} can be frozen, ${wait.length} ${wait.length === 1 ? 'waits' : 'wait'}.`
  return (
    <>
      <div className="head">
        <Typography variant="h1" data-headline>
          {headline}
        </Typography>
        <div className="actions">
          <TextField placeholder="agreement, customer …" value={text} sx={{ width: 220 }} slotProps={{ htmlInput: { 'aria-label': 'Filter' } }} onChange={(e) => setText(e.target.value)} />
          <span className="steps">
            <button type="button" className="link" onClick={() => setOf(band.before)}>
              earlier
            </button>{' · '}
            <button type="button" className="link" disabled={Date.parse(band.to) > Date.parse(band.now)} onClick={() => setOf(band.after)}>
              later
            </button>
          </span>
        </div>
      </div>
      {may('publish') && ready.length > 0 && <FreezeAll lines={ready} />}
      {lines.length === 0 ? (
        <div className="empty">
          <p>No agreement has a period that ended with {band.words}. Take an earlier one; what runs still is on Standing.</p>
        </div>
      ) : (
        <Table sx={{ marginTop: '12px' }}>
          <TableHead>
            <TableRow>
              <SortCell sort={sort} of="agreement" />
              <SortCell sort={sort} of="customer" />
              <SortCell sort={sort} of="availability" align="right" />
              <SortCell sort={sort} of="verdict" />
              <SortCell sort={sort} of="open" />
              <SortCell sort={sort} of="state" />
            </TableRow>
          </TableHead>
          <TableBody>
            {shown.map((l) => (
              <TableRow key={l.agreement.id} data-close={l.agreement.id} data-left={l.left}>
                <TableCell>
                  <Box component={Link} to={`/close/${l.agreement.id}?period=${encodeURIComponent(l.period.name)}`} sx={{ fontWeight: 600 }}>
                    {l.agreement.name}
                  </Box>
                  {l.period.name !== band.name && <div className="sub">{l.period.words}</div>}
                </TableCell>
                <TableCell>{l.customer || 'internal'}</TableCell>
                <TableCell align="right">{l.availability_percent ? percent(l.availability_percent) : ''}</TableCell>
                <TableCell className={`word-${l.verdict ?? 'unmeasured'}`}>{l.fault ? 'cannot be accounted' : (l.verdict ?? '').replace('-', ' ')}</TableCell>
                <TableCell>{l.fault ?? (l.left === 0 ? (l.all === 0 ? 'nothing to ask' : `${counted(l.all, 'question')} answered`) : openWords(l))}</TableCell>
                <TableCell>
                  {l.report ? <Link to={`/reports/${l.report}`}>published</Link> : l.frozen_at ? `frozen ${shortTime(l.frozen_at, zone)}, ${l.frozen_by}` : l.left === 0 && l.verdict ? 'can be frozen' : 'open'}
                  {l.owner && !l.report && <div className="sub">{l.owner} sees to it</div>}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <More shown={shown.length} of={matching.length} onMore={more} />
      {lines.length > 0 && (
        <Box sx={{ marginTop: '14px' }}>
          <Export name={`close-${band.name}`} columns={['agreement', 'customer', 'period', 'availability_percent', 'verdict', 'open', 'questions', 'frozen_at', 'report']} rows={matching.map((l) => [l.agreement.name, l.customer, l.period.name, l.availability_percent ?? '', l.verdict ?? '', l.left, l.all, l.frozen_at ?? '', l.report ?? ''])} />
        </Box>
      )}
    </>
  )
}

/** Freezes all accounts of which nothing is open, one after the other; one that cannot be harms no other. */
function FreezeAll({ lines }: { lines: Line[] }) {
  const [done, setDone] = useState(0)
  const [failed, setFailed] = useState<{ name: string; why: string }[]>([])
  const run = useChange({
    again: 'all',
    mutationFn: async () => {
      setDone(0)
      setFailed([])
      for (const l of lines) {
        try {
          await freeze(await askClose(l.agreement.id, l.period.name))
        } catch (e) {
          setFailed((f) => [...f, { name: l.agreement.name, why: e instanceof Error ? e.message : String(e) }])
        }
        setDone((n) => n + 1)
      }
    },
  })
  return (
    <div className="in-a-row">
      <Button variant="outlined" disabled={run.isPending} onClick={() => run.mutate()}>
        Freeze {counted(lines.length, 'agreement')}
      </Button>
      <span className="sub" role="status">
        {run.isPending ? `${done} of ${lines.length} done` : 'Their accounts stay as they are now, with what they were made from. Then reports are drafted and published.'}
      </span>
      {failed.map((f) => (
        <Trouble key={f.name} error={new Error(`${f.name}: ${f.why}`)} />
      ))}
    </div>
  )
}
