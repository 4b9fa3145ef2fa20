import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useAgreements, useMay, usePeriodNames, useReports } from '../api/queries'
import { Export } from '../parts/export'
import { More, useFind, useShown } from '../parts/more'
import { usePartyName } from '../parts/party'
import { Pick } from '../parts/pick'
import { SortCell, useSort } from '../parts/sort'
import { Awaited, Trouble } from '../parts/trouble'
import { percent, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { ReportsNav } from './head'

/** What was published, to whom; and what is due. */
export function ReportList() {
  const reports = useReports()
  const { zone } = useZone()
  const [find, text, setText] = useFind()
  const permits = useMay()
  const [most, more] = useShown()
  const sort = useSort<Schemas['ReportView']>(
    {
      // Those that come first come so from the server: the newest period first.
      period: (r) => -(reports.data?.indexOf(r) ?? 0),
      agreement: (r) => r.name,
      customer: (r) => r.customer,
      availability: (r) => Number(r.availability_percent || 101),
      verdict: (r) => r.verdict,
      state: (r) => r.state,
      published: (r) => r.published_at ?? '',
      number: (r) => r.serial ?? 0,
    },
    'newest',
  )
  if (!reports.data) return <Awaited error={reports.error} />
  const may = permits('publish')
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const matching = sort.sorted(reports.data.filter((r) => words.every((w) => `${r.name} ${r.customer} ${r.words} ${r.state} ${r.verdict}`.toLowerCase().includes(w))))
  const shown = matching.slice(0, most)
  return (
    <>
      <ReportsNav />
      <div className="head">
        <Typography variant="h1">Reports</Typography>
        <div className="actions">
          <a href="/api/v1/signing-keys/public.pem" className="link" download>
            Public keys
          </a>
          <TextField placeholder="agreement, customer, period …" value={text} sx={{ width: 240 }} slotProps={{ htmlInput: { 'aria-label': 'Filter' } }} onChange={(e) => setText(e.target.value)} />
        </div>
      </div>
      {may && <Draft />}
      {shown.length === 0 ? (
        <div className="empty">
          <p>{reports.data.length ? 'No report matches. Take a word away.' : 'Nothing was published yet. A report is drafted for a finished period of an agreement, read, and published; from then on it is frozen.'}</p>
        </div>
      ) : (
        <>
          <Table  sx={{ marginTop: '18px' }}>
            <TableHead>
              <TableRow>
                <SortCell sort={sort} of="period" />
                <SortCell sort={sort} of="agreement" />
                <SortCell sort={sort} of="customer" />
                <SortCell sort={sort} of="availability" align="right" />
                <SortCell sort={sort} of="verdict" />
                <SortCell sort={sort} of="state" />
                <SortCell sort={sort} of="published" />
                <SortCell sort={sort} of="number" align="right" />
              </TableRow>
            </TableHead>
            <TableBody>
              {shown.map((r) => (
                <TableRow key={r.id}>
                  <TableCell>{r.words}</TableCell>
                  <TableCell>
                    <Link to={`/reports/${r.id}`} className="name">
                      {r.name}
                    </Link>{' '}
                    <span className="sub">{r.number > 1 ? `report ${r.number}` : ''}</span>
                  </TableCell>
                  <TableCell>{r.customer || 'internal'}</TableCell>
                  <TableCell align="right">{r.state === 'draft' ? '' : percent(r.availability_percent)}</TableCell>
                  <TableCell className={`word-${r.verdict}`}>{r.verdict.replace('-', ' ')}</TableCell>
                  <TableCell>{r.state}</TableCell>
                  <TableCell>{r.published_at ? `${shortTime(r.published_at, zone)}, ${r.published_by}` : `drafted by ${r.made_by}`}</TableCell>
                  <TableCell align="right">{r.serial}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          <More shown={shown.length} of={matching.length} onMore={more} />
          <Box sx={{ marginTop: '14px' }}>
            <Export name="reports" columns={['id', 'customer', 'serial', 'agreement', 'period', 'report', 'state', 'availability_percent', 'verdict', 'published_at']} rows={matching.map((r) => [r.id, r.customer, r.serial ?? '', r.agreement, r.period, r.number, r.state, r.availability_percent, r.verdict, r.published_at])} />
          </Box>
        </>
      )}
    </>
  )
}

function Draft() {
  const all = useAgreements()
  const customer = usePartyName('customer')
  const agreements = (all.data ?? []).filter((a) => !a.retired).map((a) => ({ id: a.id, name: a.spec.customer ? `${a.spec.name}, ${customer(a.spec.customer)}` : a.spec.name }))
  const [wanted, setAgreement] = useState('')
  const agreement = wanted || (agreements[0]?.id ?? '')
  const [chosen, setChosen] = useState('')
  const finished = (usePeriodNames(agreement).data ?? []).filter((p) => p.over)
  const period = finished.some((p) => p.name === chosen) ? chosen : (finished[0]?.name ?? '')
  const navigate = useNavigate()
  const draft = useChange({
    mutationFn: () => ask(api.POST('/api/v1/reports', { body: { agreement, period } })),
    again: ['reports'],
    onSuccess: ({ id }) => navigate(`/reports/${id}`),
  })
  if (agreements.length === 0) return <Trouble error={all.error} />
  return (
    <Box component="form"
      sx={{ display: 'flex', gap: '12px', alignItems: 'start', flexWrap: 'wrap' }}
      onSubmit={(e) => {
        e.preventDefault()
        draft.mutate()
      }}
>
      <Pick label="Agreement" required width={280} value={agreement} change={setAgreement} of={agreements} />
      <TextField select label="Finished period" value={period} sx={{ width: 240 }} onChange={(e) => setChosen(e.target.value)}>
        {finished.map((p) => (
          <MenuItem key={p.name} value={p.name}>
            {p.words}
          </MenuItem>
        ))}
      </TextField>
      <Button type="submit" variant="contained" disabled={draft.isPending || !period} sx={{ height: 40 }}>
        Draft the report
      </Button>
      <Trouble error={draft.error} />
    </Box>
  )
}
