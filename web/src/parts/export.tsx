import { useState, type ReactNode } from 'react'
import { Trouble } from './trouble'

type Cell = string | number | null | undefined

const quoted = (c: Cell) => {
  let s = c == null ? '' : String(c)
  if (/^[=+\-@\t\r]/.test(s) && Number.isNaN(Number(s))) s = `'${s}` // no formula where a program opens it
  return /[",\n]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s
}

/** Downloads what a table shows, as CSV or JSON. */
export function Export({ name, columns, rows }: { name: string; columns: string[]; rows: Cell[][] | (() => Promise<Cell[][]>) }): ReactNode {
  const [trouble, setTrouble] = useState<unknown>()
  const save = (text: string, type: string, ending: string) => {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([text], { type }))
    link.download = `${name}.${ending}`
    link.click()
    URL.revokeObjectURL(link.href)
  }
  const take = async (write: (rows: Cell[][]) => void) => {
    setTrouble(undefined)
    try {
      write(typeof rows === 'function' ? await rows() : rows)
    } catch (error) {
      setTrouble(error)
    }
  }
  return (
    <span className="sub">
      export{' '}
      <button type="button" className="link" onClick={() => void take((rows) => save([columns, ...rows].map((r) => r.map(quoted).join(',')).join('\n') + '\n', 'text/csv', 'csv'))}>
        CSV
      </button>{' '}
      <button type="button" className="link" onClick={() => void take((rows) => save(JSON.stringify(rows.map((r) => Object.fromEntries(r.map((c, i) => [columns[i], c]))), null, 1), 'application/json', 'json'))}>
        JSON
      </button>
      {trouble !== undefined && <Trouble error={trouble} />}
    </span>
  )
}
