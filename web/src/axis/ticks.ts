import { clockMinute, dayStarts, shortDay, shortMonth } from '../time/format'

const minute = 60_000
const hour = 60 * minute
const day = 24 * hour

/** point: the text is of the instant, and not of the time up to the next. */
export type Tick = { at: number; text: string; strong: boolean; faint: boolean; point?: boolean }

/** What stands under the axis: minutes or hours where it is short, days where there is room for each, otherwise months. */
export function ticks(axis: { from: number; to: number }, zone: string, days = dayStarts(axis.from, axis.to, zone)): Tick[] {
  const long = axis.to - axis.from
  if (long <= 3 * day) {
    const step = [minute, 2 * minute, 5 * minute, 10 * minute, 30 * minute, hour, 2 * hour, 3 * hour, 6 * hour].find((s) => long / s <= 16) ?? 6 * hour
    // Counted from the day's beginning, so that they are full hours of its clock; the first day may have begun before.
    const begin = dayStarts(axis.from - 26 * hour, axis.to, zone)
    const out: Tick[] = []
    for (const [i, d] of begin.entries()) {
      const end = Math.min(begin[i + 1]?.at ?? axis.to, axis.to)
      for (let t = i === 0 ? axis.from : d.at; t < end; t += step) {
        if (i === 0 || t < axis.from) continue
        out.push({ at: t, text: t === d.at ? shortDay(t, zone) : clockMinute(t, zone), strong: t === d.at, faint: false, point: true })
      }
    }
    return out
  }
  if (long < 45 * day) return days.map((d) => ({ at: d.at, text: String(d.day), strong: d.day % 7 === 1, faint: d.weekend }))
  return days
    .filter((d, i) => d.day === 1 || i === 0)
    .map((d, i) => {
      const text = shortMonth(d.at, zone, i === 0 || shortMonth(d.at, zone, false) === 'Jan')
      return { at: d.at, text, strong: true, faint: false }
    })
}
