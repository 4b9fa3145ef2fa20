import type { Schemas } from '../api/client'

export type Kind = Schemas['CheckSpec']['kind']

/** What screens need to know of a kind of check. */
type Facts = {
  word: string
  /** What its target is. */
  target: string
  /** The measure that the form's limits are on, and which way is bad. */
  limit: { measure: string; unit: string; bad: 'above' | 'below'; of: string }
  /** The measure shown beside the latest outcome, with its unit and decimals. */
  leading: { measure: string; unit: string }
  /** Bytes on the wire of one run, roughly, headers included. */
  bytes: (packets: number, size: number) => number
}

export const kinds: Record<Kind, Facts> = {
  http: {
    word: 'HTTP',
    target: 'Web address',
    limit: { measure: 'total_ms', unit: 'ms', bad: 'above', of: 'a total' },
    leading: { measure: 'total_ms', unit: 'ms' },
    bytes: () => 2000,
  },
  ping: {
    word: 'ping',
    target: 'Host name or address',
    limit: { measure: 'loss_percent', unit: '%', bad: 'above', of: 'a loss' },
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
    bytes: (packets, size) => packets * 2 * (size + 28), // ICMP: request and answer with 28 bytes of headers each
  },
  tcp: {
    word: 'TCP',
    target: 'Host and port, such as tickets.skerry.example:443',
    limit: { measure: 'connect_ms', unit: 'ms', bad: 'above', of: 'a connect time' },
    leading: { measure: 'connect_ms', unit: 'ms' },
    bytes: () => 400, // three-way handshake and close
  },
  certificate: {
    word: 'certificate',
    target: 'Host and port, such as tickets.skerry.example:443',
    limit: { measure: 'days_left', unit: 'd', bad: 'below', of: '' },
    leading: { measure: 'days_left', unit: 'd left' },
    bytes: () => 6000,
  },
  dns: {
    word: 'DNS',
    target: 'Name to look up, such as tickets.skerry.example',
    limit: { measure: 'total_ms', unit: 'ms', bad: 'above', of: 'a time' },
    leading: { measure: 'total_ms', unit: 'ms' },
    bytes: () => 250,
  },
}

/** The leading value of a measurement in words, such as "41 ms" or "64 d left"; empty where there is none. */
export function leading(kind: string, measures: Record<string, number> | undefined): string {
  const of = kinds[kind as Kind].leading
  const v = measures?.[of.measure]
  if (v === undefined) return ''
  const text = kind === 'certificate' ? Math.floor(v).toString() : v < 10 ? v.toFixed(2) : v.toFixed(0)
  return `${text} ${of.unit}`
}
