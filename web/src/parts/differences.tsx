import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableRow from '@mui/material/TableRow'
export type Difference = { field: string; was?: string; is?: string }

/** A value as people read it: lists of words with commas, what is deeper as JSON. */
const shown = (v: unknown): string => {
  if (typeof v === 'string') return v
  return Array.isArray(v) && v.every((x) => typeof x === 'string' || typeof x === 'number') ? v.join(', ') : JSON.stringify(v)
}

/** What changed, field by field; where nothing was there before, what is there since. */
export function differences(before: unknown, after: unknown): Difference[] {
  const flat = (v: unknown, path: string, into: Map<string, string>): Map<string, string> => {
    if (v && typeof v === 'object' && !Array.isArray(v)) for (const [k, x] of Object.entries(v)) flat(x, path ? `${path}.${k}` : k, into)
    else if (v !== undefined && v !== null) into.set(path, shown(v))
    return into
  }
  const was = flat(before, '', new Map())
  const is = flat(after, '', new Map())
  const changed = Boolean(before) && Boolean(after)
  return [...new Set([...was.keys(), ...is.keys()])]
    .filter((f) => !changed || was.get(f) !== is.get(f))
    .map((field) => ({ field, was: before ? (was.get(field) ?? 'nothing') : undefined, is: is.get(field) }))
}

/** What changed, a field a line. */
export function Differences({ list }: { list: Difference[] }) {
  return (
    <Table className="sub differences">
      <TableBody>
        {list.map((d) => (
          <TableRow key={d.field}>
            <TableCell>{d.field}</TableCell>
            <TableCell>{d.was !== undefined ? `${d.was} → ${d.is ?? 'nothing'}` : d.is}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  )
}
