import type { Interval } from '../api/client'

export const classes = ['outside', 'up', 'degraded', 'down', 'tolerated', 'maintenance', 'upstream', 'excused', 'unmeasured'] as const
export type Class = (typeof classes)[number]

/** A run of pixel columns that show the same shares of classes. */
export type Run = { x: number; width: number; shares: [Class, number][] }

/**
 * Divides an axis of width pixels over [from, to) into runs of equal columns.
 * Each column has the share (0–1) of every class in its time, so that a short
 * outage in a long period is neither lost nor blown up to a whole column.
 */
export function columns(intervals: Interval[], from: number, to: number, width: number): Run[] {
  const n = Math.max(1, Math.floor(width))
  const step = (to - from) / n
  const shares: (Map<Class, number> | undefined)[] = new Array<Map<Class, number> | undefined>(n)
  for (const i of intervals) {
    const a = Math.max(from, Date.parse(i.from))
    const b = Math.min(to, Date.parse(i.to))
    if (b <= a) continue
    const first = Math.floor((a - from) / step)
    const last = Math.min(n - 1, Math.ceil((b - from) / step) - 1)
    for (let c = first; c <= last; c++) {
      const within = Math.min(b, from + (c + 1) * step) - Math.max(a, from + c * step)
      if (within <= 0) continue
      const m = (shares[c] ??= new Map<Class, number>())
      m.set(i.class, (m.get(i.class) ?? 0) + within / step)
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
