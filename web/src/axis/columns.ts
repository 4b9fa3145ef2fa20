import type { Interval } from '../api/client'

export const classes = ['outside', 'up', 'degraded', 'down', 'tolerated', 'maintenance', 'upstream', 'excused', 'unmeasured'] as const
export type Class = (typeof classes)[number]

/** A time with the share (0–1) of every class in it. */
export type Piece = { from: number; to: number; shares: [Class, number][] }

export const pieces = (intervals: Interval[]): Piece[] => intervals.map((i) => ({ from: Date.parse(i.from), to: Date.parse(i.to), shares: [[i.class, 1]] }))

const letters: Record<string, Class> = { o: 'outside', u: 'up', g: 'degraded', d: 'down', t: 'tolerated', m: 'maintenance', s: 'upstream', x: 'excused', n: 'unmeasured' }

/** Reads a strip as the server writes it, "212u 1u96d4 300": columns of equal length over [from, to), in runs that are alike. */
export function written(strip: string, from: number, to: number): Piece[] {
  const runs = strip.split(' ').filter(Boolean).map((run) => ({ columns: parseInt(run, 10), of: [...run.matchAll(/([a-z])(\d*)/g)] }))
  const step = (to - from) / runs.reduce((n, r) => n + r.columns, 0)
  const out: Piece[] = []
  let done = 0
  for (const { columns, of } of runs) {
    const begin = from + done * step
    done += columns
    const shares = of.flatMap(([, letter, percent]): [Class, number][] => {
      const c = letters[letter ?? '']
      return c ? [[c, percent ? Number(percent) / 100 : 1]] : []
    })
    if (shares.length > 0) out.push({ from: begin, to: from + done * step, shares })
  }
  return out
}

/** A run of pixel columns that show the same shares of classes. */
export type Run = { x: number; width: number; shares: [Class, number][] }

/**
 * Divides an axis of width pixels over [from, to) into runs of equal columns.
 * Each column has the share (0–1) of every class in its time, so that a short
 * outage in a long period is neither lost nor blown up to a whole column.
 */
export function columns(list: Piece[], from: number, to: number, width: number): Run[] {
  const n = Math.max(1, Math.floor(width))
  const step = (to - from) / n
  const shares: (Map<Class, number> | undefined)[] = new Array<Map<Class, number> | undefined>(n)
  for (const p of list) {
    const a = Math.max(from, p.from)
    const b = Math.min(to, p.to)
    if (b <= a) continue
    const first = Math.floor((a - from) / step)
    const last = Math.min(n - 1, Math.ceil((b - from) / step) - 1)
    for (let c = first; c <= last; c++) {
      const within = Math.min(b, from + (c + 1) * step) - Math.max(a, from + c * step)
      if (within <= 0) continue
      const m = (shares[c] ??= new Map<Class, number>())
      for (const [of, share] of p.shares) m.set(of, (m.get(of) ?? 0) + (share * within) / step)
    }
  }
  const runs: Run[] = []
  let last = ''
  for (let c = 0; c < n; c++) {
    const m = shares[c]
    const key = m ? [...m].map(([k, v]) => `${k}:${v.toFixed(3)}`).sort().join() : ''
    const run = runs[runs.length - 1]
    if (m && run && key === last && run.x + run.width === c) run.width++
    else if (m) runs.push({ x: c, width: 1, shares: [...m] })
    last = key
  }
  return runs
}
