import Stack from '@mui/material/Stack'
import TableCell from '@mui/material/TableCell'
import TableSortLabel from '@mui/material/TableSortLabel'
import { useParam } from './group-by'
import { compared } from './compared'

/** How a list is sorted: the address keeps the column, with a minus before it where it goes down. */
export function useSort<T>(by: Record<string, (item: T) => string | number>, first: string) {
  const [text, set] = useParam('sort')
  const down = text.startsWith('-')
  const column = text.replace(/^-/, '') in by ? text.replace(/^-/, '') : first
  const turn = (to: string) => set(to === column ? (down ? '' : `-${to}`) : to === first ? '' : to)
  const of = by[column]
  return {
    column,
    down: down && column === text.slice(1),
    turn,
    sorted: (list: T[]): T[] => (of ? compared(list, of, down) : list),
  }
}

type Sort = { column: string; down: boolean; turn: (to: string) => void }

/** The head of a column by which a table can be sorted, called by its name. */
export function SortCell({ sort, of, align }: { sort: Sort; of: string; align?: 'right' }) {
  const on = sort.column === of
  return (
    <TableCell align={align} sortDirection={on ? (sort.down ? 'desc' : 'asc') : false}>
      <TableSortLabel active={on} direction={on && sort.down ? 'desc' : 'asc'} onClick={() => sort.turn(of)}>
        {of.charAt(0).toUpperCase() + of.slice(1)}
      </TableSortLabel>
    </TableCell>
  )
}

/** By what a list without a table can be sorted: a word each. */
export function SortWords({ sort, of }: { sort: Sort; of: string[] }) {
  return (
    <Stack component="span" direction="row" spacing={1.25} role="group" aria-label="Sorted by">
      {of.map((word) => (
        <TableSortLabel key={word} hideSortIcon active={sort.column === word} direction={sort.column === word && sort.down ? 'desc' : 'asc'} aria-pressed={sort.column === word} onClick={() => sort.turn(word)} sx={{ fontWeight: sort.column === word ? 600 : 400 }}>
          {word}
        </TableSortLabel>
      ))}
    </Stack>
  )
}
