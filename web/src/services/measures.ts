import type { Schemas } from '../api/client'

export type MeasureOf = Schemas['Kind']

/** The measures of a measurement in the order of its kind, in words; of a body that was cut the size is not known. */
export function inOrder(kind: MeasureOf | undefined, measures: Record<string, number> | undefined, cut = false) {
  const list = kind?.measures ?? Object.keys(measures ?? {}).map((name) => ({ name, text: name, unit: '' }))
  return list.flatMap((m) => {
    const value = measures?.[m.name]
    return value === undefined ? [] : [{ name: m.name, text: /^[A-Z][a-z]/.test(m.text) ? m.text.charAt(0).toLowerCase() + m.text.slice(1) : m.text, unit: m.unit, value: (cut && m.name === 'size_bytes' ? 'more than ' : '') + written(m.name, value) }]
  })
}

/** A fingerprint is no quantity: it is written in hexadecimal, as where the route is shown. */
const written = (name: string, v: number) => (name === 'route' ? v.toString(16).padStart(6, '0') : Number.isInteger(v) ? v.toString() : v.toFixed(Math.abs(v) < 10 ? 3 : 1).replace(/\.?0+$/, ''))
