/** A service as a line of pasted text describes it. */
export type Line = { number: number; name: string; address: string; target: string }

/** Reads pasted lines: name, address, target; or an address alone. Faults name the line. */
export function parse(text: string): { lines: Line[]; faults: string[] } {
  const lines: Line[] = []
  const faults: string[] = []
  const most = 1000
  text.split(/\r?\n/).forEach((raw, i) => {
    const cells = cut(raw)
    if (cells.every((c) => c === '')) return
    const [first = '', second = '', third = ''] = cells
    if (i === 0 && /^(name|service|address|url|host)$/i.test(first)) return
    const [name, address, target] = second === '' ? [host(first), first, third] : [first, second, third.replace('%', '').trim()]
    if (/\s/.test(address)) faults.push(`Line ${i + 1}: “${address}” is no address; it has a space in it.`)
    else if (target && !(Number(target) > 0 && Number(target) <= 100)) faults.push(`Line ${i + 1}: “${target}” is no percentage between 0 and 100.`)
    else lines.push({ number: i + 1, name: name.slice(0, 80), address, target })
  })
  if (lines.length > most) faults.push(`${lines.length} lines are too many; paste ${most} at once.`)
  return { lines, faults }
}

/** The cells of a line: quoted ones (RFC 4180) may hold what parts the others. */
function cut(line: string): string[] {
  const cells: string[] = []
  const cell = /\s*(?:"((?:[^"]|"")*)"|([^,;\t]*))\s*(?:[,;\t]|$)/y
  while (cell.lastIndex < line.length) {
    const m = cell.exec(line)
    if (!m) break
    cells.push((m[1]?.replaceAll('""', '"') ?? m[2] ?? '').trim())
  }
  return cells
}

const host = (address: string) => address.replace(/^\w+:\/\//, '').replace(/[/?#].*$/, '')
