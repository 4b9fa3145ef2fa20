import type { Schemas } from '../api/client'

export type Kind = Schemas['CheckSpec']['kind']

/** What screens need to know of a kind of check. */
type Facts = {
  word: string
  /** What its target is; empty where nothing is called. */
  target: string
  /** The measure shown beside the latest outcome, with its unit. */
  leading: { measure: string; unit: string }
}

export const kinds: Record<Kind, Facts> = {
  http: {
    word: 'HTTP',
    target: 'Web address',
    leading: { measure: 'total_ms', unit: 'ms' },
  },
  ping: {
    word: 'ping',
    target: 'Host name or address',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
  },
  tcp: {
    word: 'TCP',
    target: 'Host and port, such as tickets.skerry.example:443',
    leading: { measure: 'connect_ms', unit: 'ms' },
  },
  certificate: {
    word: 'certificate',
    target: 'Host and port, such as tickets.skerry.example:443',
    leading: { measure: 'days_left', unit: 'd left' },
  },
  dns: {
    word: 'DNS',
    target: 'Name to look up, such as tickets.skerry.example',
    leading: { measure: 'total_ms', unit: 'ms' },
  },
  path: {
    word: 'path',
    target: 'Host name or address',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
  },
  udp: {
    word: 'UDP echo',
    target: 'Host and port of a responder, such as eskerby.skerry.example:8481',
    leading: { measure: 'rtt_mean_ms', unit: 'ms' },
  },
  'report-in': {
    word: 'report-in',
    target: '',
    leading: { measure: 'since_last_s', unit: 's since the one before' },
  },
  derived: {
    word: 'derived',
    target: '',
    leading: { measure: 'value', unit: '' },
  },
}

/** Kinds that the server measures itself: no location is chosen for them. */
export const inward = (kind: Kind) => kind === 'report-in' || kind === 'derived'

/** The leading value of a measurement in words, such as "41 ms" or "64 d left"; empty where there is none. */
export function leading(kind: string, measures: Record<string, number> | undefined): string {
  return value(kind, measures?.[kinds[kind as Kind].leading.measure])
}

/** A value of the leading measure of a kind in words; empty where there is none. */
export function value(kind: string, v: number | undefined): string {
  const of = kinds[kind as Kind].leading
  if (v === undefined) return ''
  const text = kind === 'certificate' ? Math.floor(v).toString() : v < 10 && !Number.isInteger(v) ? v.toFixed(2) : v.toFixed(0)
  return `${text} ${of.unit}`
}
