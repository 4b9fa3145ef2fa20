import type { Schemas } from '../api/client'
import { duration } from '../time/format'
import { inward, kinds, packets, type Kind } from './kinds'

type Spec = Schemas['CheckSpec']

/** What a check's schedule costs, in words. */
export function cost(spec: Pick<Spec, 'kind' | 'interval_s' | 'ping' | 'http' | 'path' | 'udp'>, locations: number): string {
  const { interval, runs, traffic } = load(spec, locations)
  if (!interval || !locations) return 'Choose an interval and at least one location.'
  const text = `${runs.toLocaleString('en')} runs a day, about ${bytes(traffic)} a day.`
  const least = kinds[spec.kind].least
  return interval >= least ? text : `${text} Every ${duration(interval * 1000)} is more often than the ${duration(least * 1000)} recommended for ${kinds[spec.kind].word}; some networks block this.`
}

/** Runs and bytes a day of a check. */
export function load(spec: Pick<Spec, 'kind' | 'interval_s' | 'ping' | 'http' | 'path' | 'udp'>, locations: number) {
  const interval = Number(spec.interval_s)
  const runs = interval ? Math.round((86_400 / interval) * locations) : 0
  return { interval, runs, traffic: runs * kinds[spec.kind].bytes(spec) }
}

export const bytes = (n: number) => (n > 1e6 ? `${(n / 1e6).toFixed(1)} MB` : `${Math.ceil(n / 1e3)} kB`)

/** How soon a failure is believed at the latest. */
export function detection(spec: Pick<Spec, 'interval_s' | 'timeout_ms' | 'confirm' | 'retry_s' | 'rolling' | 'locations'>): string {
  const [intervalS, timeoutMs, confirm, again] = [Number(spec.interval_s), Number(spec.timeout_ms), Number(spec.confirm), Number(spec.retry_s) || Number(spec.interval_s)]
  if (spec.rolling) {
    const each = Math.ceil(Number(spec.rolling.runs) / Math.max(1, spec.locations.length))
    return `A failure that all locations see is certain at most ${duration(each * intervalS * 1000 + timeoutMs)} after it begins (${each} × ${duration(intervalS * 1000)}, ${timeoutMs} ms timeout); each failed run then counts from its own instant.`
  }
  const sum = intervalS + (confirm - 1) * again + timeoutMs / 1000
  const parts = [`${duration(intervalS * 1000)} until it is measured`, confirm > 1 && `${confirm - 1} × ${duration(again * 1000)} to confirm`, `${timeoutMs} ms timeout`].filter(Boolean).join(' + ')
  return `A failure is certain at most ${duration(sum * 1000)} after it begins (${parts}); it then counts from its first failed measurement.`
}

/** Whether the window of a rolling rule holds enough runs, with the sum. */
export function holds(rule: Schemas['Rolling'], intervalS: number, locations: number): { enough: boolean; text: string } {
  const each = intervalS ? Math.floor(Number(rule.window_s) / intervalS) : 0
  const all = each * locations
  const sum = `${duration(Number(rule.window_s) * 1000)} hold ${each} runs a location, × ${locations} = ${all}`
  if (all < Number(rule.runs)) return { enough: false, text: `The window is too short: ${sum}, and ${rule.runs} must fail. Take at least ${duration(Math.ceil(Number(rule.runs) / Math.max(1, locations)) * intervalS * 1000)}.` }
  if (Number(rule.locations) > locations) return { enough: false, text: `${rule.locations} locations can never agree: it is measured from ${locations}.` }
  return { enough: true, text: `${sum}; ${rule.runs} of them must fail.` }
}

/** A limit on loss that one run's packets cannot resolve, with the arithmetic; empty where they can. */
export function tooFine(kind: Kind, spec: Parameters<typeof packets>[1], limit: Pick<Schemas['Limit'], 'measure' | 'degraded_above' | 'failed_above' | 'mean_s'>, intervalS: number): string {
  const n = packets(kind, spec)
  if (limit.measure !== 'loss_percent' || !n) return ''
  const runs = limit.mean_s ? Math.max(1, Math.floor(limit.mean_s / Math.max(1, intervalS))) : 1
  const step = 100 / (n * runs)
  const bound = [limit.degraded_above, limit.failed_above].find((b) => b !== undefined && b > 0 && b < step)
  if (bound === undefined) return ''
  const need = Math.ceil(100 / bound / runs)
  return `${bound} % cannot be told: one lost packet of ${n * runs} is ${step.toFixed(step < 1 ? 2 : 1)} % already. Send ${need} packets${runs > 1 ? ' a run' : ''}, or take a mean over a longer time.`
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

/** A check of a kind with the values that it starts with. */
export function newCheck(kind: Kind, service: string, locations: string[]): Spec {
  const { interval_s, timeout_ms, limits } = kinds[kind].start
  return {
    service,
    name: '',
    kind,
    target: '',
    interval_s,
    timeout_ms,
    stale_after_s: interval_s * 3 + 10,
    confirm: kind === 'certificate' || inward(kind) ? 1 : 2,
    recover: kind === 'certificate' || inward(kind) ? 1 : 2,
    quorum: 'majority',
    role: 'decides',
    locations: inward(kind) ? ['server'] : locations,
    limits,
    http: { method: 'GET', status: '200-399', redirects: 0 },
    ping: { packets: 5, size_bytes: 56, spacing_ms: 200 },
    certificate: {},
    dns: { type: 'A' },
    path: { method: 'icmp', rounds: 3, spacing_ms: 500, max_hops: 30 },
    udp: { codec: 'g711', packets: 100 },
    report_in: { numbers: [] },
    derived: { operation: 'sum', sources: [] },
  }
}

/** The spec with the settings of its own kind alone. */
export function ownSettings(spec: Spec): Spec {
  const { ping, http, certificate, dns, path, udp, report_in, derived, ...rest } = spec
  const all = { ping, http, certificate, dns, path, udp, 'report-in': report_in, derived, tcp: undefined }
  const key = spec.kind === 'report-in' ? 'report_in' : spec.kind
  return { ...rest, ...(all[spec.kind] ? { [key]: all[spec.kind] } : {}) }
}

/** The check that a candidate becomes. A certificate changes seldom, a path is long: their own intervals are plenty. */
export function proposed(service: string, c: Schemas['Candidate'], interval: number, locations: string[], role: 'decides' | 'informs', limits: Schemas['Limit'][] = []): Spec {
  const spec = newCheck(c.kind, service, locations)
  const every = Math.max(interval, c.kind === 'certificate' || c.kind === 'path' ? spec.interval_s : 0)
  return ownSettings({
    ...spec,
    name: c.name,
    target: c.target,
    interval_s: every,
    timeout_ms: Math.min(spec.timeout_ms, every * 1000 - 2000),
    stale_after_s: every * 3 + 10,
    role,
    limits: [...(spec.limits ?? []), ...limits],
  })
}

/** The measure of a kind that tells how long it took, and the least limit on it that makes sense, ms. */
const pace: Partial<Record<Kind, [measure: string, least: number]>> = { http: ['total_ms', 100], tcp: ['connect_ms', 100], ping: ['rtt_mean_ms', 20], path: ['rtt_mean_ms', 20] }

/** A limit on the time that a target takes, from how long it took: three times the slowest, rounded up to one figure. */
export function suggested(c: Schemas['Candidate'], trials: Pick<Schemas['TrialView'], 'measures'>[]): Schemas['Limit'][] {
  const [measure, least] = pace[c.kind] ?? ['', 0]
  const slowest = Math.max(0, ...trials.map((t) => t.measures?.[measure] ?? 0))
  if (slowest === 0) return []
  const raw = Math.max(least, 3 * slowest)
  const step = 10 ** Math.floor(Math.log10(raw))
  return [{ measure, degraded_above: Math.ceil(raw / step) * step }]
}

/** The locations whose own host is the target. */
export function ownHost(target: string, places: Schemas['DefinedLocationSpec'][]): Schemas['DefinedLocationSpec'][] {
  const host = target.replace(/^\w+:\/\//, '').replace(/[:/].*$/, '')
  return places.filter((l) => l.spec.address && l.spec.address === host)
}
