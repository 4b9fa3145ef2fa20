import { decimal, validTarget } from '../parts/decimal'

/** A service as a line of pasted text describes it. */
export type Line = { number: number; name: string; address: string; target: string }

/** What is wrong with a line; 0 is all of them. */
export type Wrong = { number: number; text: string }

const most = 1000

/** Reads pasted lines: name, address, target; or an address alone, with a target or without. Good lines stand beside wrong ones. */
export function parse(text: string): { lines: Line[]; wrong: Wrong[] } {
  const lines: Line[] = []
  const wrong: Wrong[] = []
  text.split(/\r?\n/).forEach((raw, i) => {
    const cells = cut(raw)
    if (cells.every((c) => c === '')) return
    if (i === 0 && /^(name|service|address|url|host)$/i.test(cells[0] ?? '')) return
    const line = read(cells)
    if (typeof line === 'string') wrong.push({ number: i + 1, text: line })
    else lines.push({ number: i + 1, ...line })
  })
  if (lines.length > most) wrong.push({ number: 0, text: `${lines.length} lines are too many; paste ${most} at once.` })
  return { lines: lines.slice(0, most), wrong }
}

/** The line that cells make, or what is wrong with them. */
function read(cells: string[]): Omit<Line, 'number'> | string {
  while (cells.length > 1 && cells[cells.length - 1] === '') cells.pop()
  if (cells.length > 3) return `has ${cells.length} columns, and three are known: name, address, target. Where commas part them, write the target with a point, 99.95, or part the columns by semicolons or tabs.`
  const [first = '', second = '', third = ''] = cells
  if (first === '') return `has no name; write one before “${second}”, or the address alone.`
  const alone = cells.length === 1 || (cells.length === 2 && isPercent(second))
  const [name, address, target] = alone ? [host(first), first, second] : [first, second, third]
  if (address === '') return `has no address for “${name}”.`
  if (/\s/.test(address)) return `“${address}” is no address; it has a space in it.`
  if (target !== '' && !isPercent(target)) return `“${target}” is no percentage between 0 and 100.`
  return { name: name.slice(0, 80), address, target: decimal(target) }
}

const isPercent = (text: string) => validTarget(text) === true && Number(decimal(text)) > 0

/** The cells of a line, parted by tabs, or else by semicolons, or else by commas; quoted ones (RFC 4180) may hold what parts the others. */
function cut(line: string): string[] {
  const bare = line.replace(/"(?:[^"]|"")*"/g, '')
  const by = bare.includes('\t') ? '\t' : bare.includes(';') ? ';' : ','
  const cells: string[] = []
  const cell = new RegExp(`[^\\S\\t]*(?:"((?:[^"]|"")*)"|([^${by}]*))[^\\S\\t]*(?:${by}|$)`, 'y')
  while (cell.lastIndex < line.length) {
    const m = cell.exec(line)
    if (!m) break
    cells.push((m[1]?.replaceAll('""', '"') ?? m[2] ?? '').trim())
  }
  return cells
}

const host = (address: string) => address.replace(/^\w+:\/\//, '').replace(/[/?#].*$/, '')
