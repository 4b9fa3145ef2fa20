import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { Export } from '../parts/export'
import { FilePick } from '../parts/file-pick'
import { Trouble } from '../parts/trouble'
import { duration, durationUp, fullTime } from '../time/format'
import { exactly } from '../time/span'

type Page = Schemas['ClosePage']

/** Somebody else's list of outages beside the account: where they differ, and why. */
export default function Counter({ c }: { c: Page }) {
  const [text, setText] = useState('')
  const compare = useChange({ mutationFn: (list: string) => ask(api.POST('/api/v1/agreements/{id}/counter', { params: { path: { id: c.agreement.id } }, body: { period: c.period.name, text: list } })) })
  const d = compare.data
  const at = (i: string) => fullTime(i, c.timezone)
  const to = (x: Schemas['Difference']) => {
    const margin = Math.max(600_000, x.ms)
    return `/services/${c.service.id}?span=${encodeURIComponent(exactly(Date.parse(x.from) - margin, Date.parse(x.to) + margin))}&at=${encodeURIComponent(x.from)}`
  }
  const fault = compare.error instanceof Problem ? compare.error.fields.text : undefined
  return (
    <section aria-label="Their list of outages" data-counter>
      <TextField
        label="Begin, end and what it was, a line each; or an iCalendar"
        multiline
        minRows={3}
        maxRows={10}
        value={text}
        placeholder="2026-10-09 07:40, 2026-10-09 08:05, Gate 3"
        error={Boolean(fault)}
        helperText={fault ?? `Times without a zone are those of ${c.timezone}`}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="in-a-row">
        <Button variant="contained" disabled={compare.isPending || text.trim() === ''} onClick={() => compare.mutate(text)}>
          Compare
        </Button>
        <FilePick label="Take a file" accept=".csv,.txt,.tsv,.ics,text/*" taken={(f) => {
            setText(f.text)
            compare.mutate(f.text)
          }} />
      </div>
      {!fault && <Trouble error={compare.error} />}
      {d && (
        <>
          <p role="status" data-compared={d.differences.length}>
            {d.differences.length === 0 ? 'Their list and the account say the same.' : `${d.differences.length === 1 ? 'One difference' : `${d.differences.length} differences`}.`} Down by their list: {durationUp(d.theirs_ms)}, in the account: {durationUp(d.ours_ms)}, in both: {durationUp(d.both_ms)}.
          </p>
          {d.left.length > 0 && (
            <div className="trouble" role="alert">
              {d.left.length === 1 ? 'A line was' : `${d.left.length} lines were`} not compared:
              {d.left.slice(0, 20).map((l) => (
                <div key={`${l.line} ${l.why}`}>
                  {l.line > 0 && `line ${l.line}: `}
                  {l.why}
                </div>
              ))}
              {d.left.length > 20 && <div>and {d.left.length - 20} more</div>}
            </div>
          )}
          {d.differences.length > 0 && (
            <>
              <Table size="small">
                <TableHead>
                  <TableRow>
                    <TableCell>From</TableCell>
                    <TableCell align="right">Length</TableCell>
                    <TableCell>Who says down</TableCell>
                    <TableCell>In the account</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {d.differences.slice(0, 200).map((x) => (
                    <TableRow key={`${x.from} ${x.who}`} data-difference={x.who}>
                      <TableCell>
                        <Link to={to(x)}>{at(x.from)}</Link>
                      </TableCell>
                      <TableCell align="right">{duration(x.ms)}</TableCell>
                      <TableCell>
                        {x.who === 'theirs' ? 'their list' : 'the account'}
                        {x.text && <div className="sub">{x.text}</div>}
                      </TableCell>
                      <TableCell>
                        <b className={`word-${x.class}`}>{x.class}</b>: {x.why}
                      </TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
              {d.differences.length > 200 && <p className="sub">The first 200 of {d.differences.length}; the export has all.</p>}
              <Export name={`differences-${c.agreement.id}-${c.period.name}`} columns={['from', 'to', 'ms', 'who', 'class', 'why', 'text']} rows={d.differences.map((x) => [x.from, x.to, x.ms, x.who, x.class, x.why, x.text])} />
            </>
          )}
        </>
      )}
    </section>
  )
}
