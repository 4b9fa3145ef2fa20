import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import { useState, type ReactNode } from 'react'
import { useMayDefineForAll } from '../api/queries'
import { useRetiring, type Retirable } from '../parts/retire'
import { Trouble } from '../parts/trouble'
import { SetupHead } from './head'

type Entry = { id: string; retired: boolean }

type Props<D extends Entry> = {
  title: string
  /** What one is called: "network". */
  one: string
  note: string
  list: D[]
  columns: string[]
  cells: (d: D) => ReactNode[]
  form: (d: D | undefined, done: () => void) => ReactNode
  /** What is listed, by its path. */
  of: Retirable
  /** Whether they may be changed; absent: by who may define for the whole organisation. */
  may?: boolean
  /** More that can be done with one. */
  more?: (d: D) => ReactNode
}

/** A page of definitions in a table: each is added, edited and retired in its place. */
export function Listing<D extends Entry>({ title, one, note, list, columns, cells, form, of, may: mayChange, more }: Props<D>) {
  const mayDefine = useMayDefineForAll()
  const may = mayChange ?? mayDefine
  const [editing, setEditing] = useState<string | undefined>()
  const retiring = useRetiring(of)
  const done = () => setEditing(undefined)
  return (
    <>
      <SetupHead title={title}>
        {may && (
          <Button variant={list.length ? 'outlined' : 'contained'} onClick={() => setEditing('')}>
            Add {/^[aeiou]/.test(one) ? 'an' : 'a'} {one}
          </Button>
        )}
      </SetupHead>
      <Box component="p" className="sub" sx={{ maxWidth: '640px' }}>
        {note}
      </Box>
      {editing === '' && form(undefined, done)}
      <Trouble error={retiring.error} />
      {list.length > 0 && (
        <Table  sx={{ maxWidth: '900px' }}>
          <TableHead>
            <TableRow>
              {columns.map((c) => (
                <TableCell key={c}>{c}</TableCell>
              ))}
              <TableCell aria-hidden />
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((d) =>
              editing === d.id ? (
                <TableRow key={d.id}>
                  <TableCell colSpan={columns.length + 1}>{form(d, done)}</TableCell>
                </TableRow>
              ) : (
                <tr key={d.id} {...{ [`data-${one.replaceAll(' ', '-')}`]: d.id }} style={d.retired ? { opacity: 0.6 } : undefined}>
                  {cells(d).map((cell, i) => (
                    <TableCell key={columns[i]}>
                      {cell}
                      {i === 0 && d.retired && ', retired'}
                    </TableCell>
                  ))}
                  <TableCell>
                    {may && (
                      <>
                        {!d.retired && (
                          <button type="button" className="link" onClick={() => setEditing(d.id)}>
                            edit
                          </button>
                        )}{' '}
                        <button type="button" className="link" onClick={() => (d.retired ? retiring.restore : retiring.retire)(d.id)}>
                          {d.retired ? 'restore' : 'retire'}
                        </button>
                        {!d.retired && more?.(d)}
                      </>
                    )}
                  </TableCell>
                </tr>
              ),
            )}
          </TableBody>
        </Table>
      )}
    </>
  )
}
