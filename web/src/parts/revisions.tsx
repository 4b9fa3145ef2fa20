import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { Fragment, useState } from 'react'
import { fullTime, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { Differences, differences } from './differences'
import { Trouble } from './trouble'
import { useRevisions } from '../api/queries'

/** The revisions of a definition, newest first: who, when, why, and what each changed. */
export function Revisions({ path, id, counts }: { path: 'services' | 'checks' | 'agreements' | 'notice-plans' | 'windows'; id: string; counts?: boolean }) {
  const { zone } = useZone()
  const [open, setOpen] = useState<number | undefined>()
  const revisions = useRevisions(path, id)
  if (!revisions.data) return <Trouble error={revisions.error} />
  const all = revisions.data
  return (
    <section aria-label="Revisions">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Revisions</Typography>
      <Table size="small">
        <TableHead>
          <TableRow>
            <TableCell>No.</TableCell>
            <TableCell>Made</TableCell>
            {counts && <TableCell>Counts from</TableCell>}
            <TableCell>By</TableCell>
            <TableCell>Why</TableCell>
            <TableCell>What changed</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {all.map((r, i) => {
            const before = all[i + 1]
            const more = before ? differences(before.spec, r.spec) : []
            const shown = open === r.number
            return (
              <Fragment key={r.number}>
                <TableRow data-revision={r.number}>
                  <TableCell>{r.number}</TableCell>
                  <TableCell title={`${fullTime(r.from, zone)} (${zone})`}>{shortTime(r.from, zone)}</TableCell>
                  {counts && <TableCell>{r.counts_from ? shortTime(r.counts_from, zone) : 'its beginning'}</TableCell>}
                  <TableCell>{r.by}</TableCell>
                  <TableCell>{r.reason || '–'}</TableCell>
                  <TableCell>
                    {!before && 'all of it'}
                    {before && more.length === 0 && 'nothing'}
                    {more.length > 0 && (
                      <button type="button" className="link" aria-expanded={shown} onClick={() => setOpen(shown ? undefined : r.number)}>
                        {more.length === 1 ? more[0]?.field : `${more.length} fields`}
                      </button>
                    )}
                  </TableCell>
                </TableRow>
                {shown && (
                  <TableRow>
                    <TableCell />
                    <TableCell colSpan={counts ? 5 : 4}>
                      <Differences list={more} />
                    </TableCell>
                  </TableRow>
                )}
              </Fragment>
            )
          })}
        </TableBody>
      </Table>
    </section>
  )
}
