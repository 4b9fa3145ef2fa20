import type { Schemas } from '../api/client'

export type Kind = Schemas['CheckSpec']['kind']
type Settings = Pick<Schemas['CheckSpec'], 'ping' | 'http' | 'certificate' | 'dns' | 'path' | 'udp' | 'report_in' | 'derived'>

/** What screens need to know of a kind of check. */
type Facts = {
  word: string
  /** What its target is; empty where nothing is called. */
  target: string
  /** The measure shown beside the latest outcome, with its unit. */
  leading: { measure: string; unit: string }
  /** The measure that a new limit is on. */
  limit: string
  /** Bytes on the wire of one run, roughly, headers included. */
  bytes: (s: Settings) => number
  /** Intervals below this, in seconds, are taken amiss by some networks. */
  least: number
  /** What a new check of the kind starts with. */
  start: { interval_s: number; timeout_ms: number; limits: Schemas['Limit'][] }
}

const page = { interval_s: 60, timeout_ms: 5000, limits: [] }

export const kinds: Record<Kind, Facts> = {
  http: {
    word: 'HTTP',
    target: 'Web address',
    leading: { measure: 'total_ms', unit: 'ms' },
    limit: 'total_ms',
    bytes: (s) => 2000 + (s.http?.body?.length ?? 0),
    least: 30,
    start: page,
  },
  ping: {
    word: 'ping',
    target: 'Host name or address',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
    limit: 'loss_percent',
    bytes: (s) => (s.ping?.packets ?? 5) * 2 * ((s.ping?.size_bytes ?? 56) + 28), // ICMP: request and answer with 28 bytes of headers each
    least: 10,
    start: { interval_s: 60, timeout_ms: 1000, limits: [{ measure: 'loss_percent', degraded_above: 20, failed_above: 80 }] },
  },
  tcp: {
    word: 'TCP',
    target: 'Host and port, such as tickets.skerry.example:443',
    leading: { measure: 'connect_ms', unit: 'ms' },
    limit: 'connect_ms',
    bytes: () => 400, // three-way handshake and close
    least: 30,
    start: { ...page, timeout_ms: 2000 },
  },
  certificate: {
    word: 'certificate',
    target: 'Host and port, such as tickets.skerry.example:443',
    leading: { measure: 'days_left', unit: 'd left' },
    limit: 'days_left',
    bytes: () => 6000,
    least: 300,
    start: { interval_s: 3600, timeout_ms: 5000, limits: [{ measure: 'days_left', degraded_below: 21, failed_below: 7 }] },
  },
  dns: {
    word: 'DNS',
    target: 'Name to look up, such as tickets.skerry.example',
    leading: { measure: 'total_ms', unit: 'ms' },
    limit: 'total_ms',
    bytes: () => 250,
    least: 30,
    start: { ...page, timeout_ms: 2000 },
  },
  path: {
    word: 'path',
    target: 'Host name or address',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
    limit: 'loss_percent',
    bytes: (s) => (s.path?.rounds ?? 3) * 12 * 2 * Math.max(60, s.path?.size_bytes ?? 60), // of a path of a dozen hops
    least: 60,
    start: { interval_s: 300, timeout_ms: 2000, limits: [{ measure: 'route_changed', degraded_above: 0 }] },
  },
  udp: {
    word: 'UDP echo',
    target: 'Host and port of a responder, such as eskerby.skerry.example:8481',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
    limit: 'mos',
    bytes: (s) => (s.udp?.packets ?? 100) * 2 * ((s.udp?.codec === 'g729' ? 32 : 172) + 28),
    least: 60,
    start: { interval_s: 300, timeout_ms: 2000, limits: [{ measure: 'mos', degraded_below: 4, failed_below: 3.1 }] },
  },
  'report-in': {
    word: 'report-in',
    target: '',
    leading: { measure: 'since_last_s', unit: 's since the one before' },
    limit: 'value_1',
    bytes: () => 800,
    least: 5,
    start: { interval_s: 3600, timeout_ms: 60000, limits: [] },
  },
  derived: {
    word: 'derived',
    target: '',
    leading: { measure: 'value', unit: '' },
    limit: 'value',
    bytes: () => 0,
    least: 5,
    start: { interval_s: 60, timeout_ms: 1000, limits: [] },
  },
}

/** Kinds that the server measures itself: no location is chosen for them. */
export const inward = (kind: Kind) => kind === 'report-in' || kind === 'derived'

/** How many packets one run sends whose loss is told; 0 where none is. */
export const packets = (kind: Kind, s: Settings) => (kind === 'ping' ? (s.ping?.packets ?? 5) : kind === 'path' ? (s.path?.rounds ?? 3) : kind === 'udp' ? (s.udp?.packets ?? 100) : 0)

/** The leading value of a measurement in words, such as "41 ms" or "64 d left"; empty where there is none. */
export function leading(kind: string, measures: Record<string, number> | undefined): string {
  const of = kinds[kind as Kind].leading
  const v = measures?.[of.measure]
  if (v === undefined) return ''
  const text = kind === 'certificate' ? Math.floor(v).toString() : v < 10 && !Number.isInteger(v) ? v.toFixed(2) : v.toFixed(0)
  return `${text} ${of.unit}`
}
