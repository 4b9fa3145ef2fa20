import { duration } from '../time/format'
import { kinds, type Kind } from './kinds'

/** What a check's schedule costs, in words. */
export function cost(kind: Kind, intervalS: number, locations: number, packets = 5, bytes = 56): string {
  if (!intervalS || !locations) return 'Choose an interval and at least one location.'
  const runs = Math.round((86_400 / intervalS) * locations)
  const traffic = runs * kinds[kind].bytes(packets, bytes)
  return `${runs.toLocaleString('en')} runs a day, about ${traffic > 1e6 ? `${(traffic / 1e6).toFixed(1)} MB` : `${Math.ceil(traffic / 1e3)} kB`} a day.`
}

/** How soon a failure is believed at the latest. */
export function detection(intervalS: number, timeoutMs: number, confirm: number): string {
  return `A failure is certain at most ${duration(intervalS * confirm * 1000 + timeoutMs)} after it begins; it then counts from its first failed measurement.`
}

/** How many samples a month's allowance is, and what to do when they are too few. */
export function resolution(targetPercent: number, intervalS: number): string {
  if (!(targetPercent >= 0 && targetPercent <= 100) || !intervalS) return ''
  const allowanceS = ((100 - targetPercent) / 100) * 30 * 86_400
  const samples = allowanceS / intervalS
  const text = `A month at ${targetPercent} % allows ${duration(allowanceS * 1000)} of downtime: ${samples.toFixed(1)} samples at ${duration(intervalS * 1000)}.`
  const enough = 20
  if (samples >= enough || allowanceS === 0) return text
  const better = [5, 10, 15, 20, 30, 60, 120].filter((i) => allowanceS / i >= enough).pop() ?? 5
  return `${text} That is coarse; measure every ${duration(better * 1000)}.`
}

/** What is wrong with a target; true when nothing is. */
export function validTarget(v: string): string | true {
  return (/^\d{1,3}(\.\d{1,6})?$/.test(v.trim()) && Number(v) <= 100) || 'A percentage between 0 and 100, such as 99.95'
}
