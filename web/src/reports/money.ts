import type { Schemas } from '../api/client'

/** An amount as people read it: "12 500.00", its digits in threes. */
export function money(amount: string): string {
  const [whole = '', part] = amount.split('.')
  const grouped = whole.replace(/\B(?=(\d{3})+$)/g, ' ')
  return part === undefined ? grouped : `${grouped}.${part}`
}

/** What is due, open and lapsed together, by currency. Whole minor units are added: decimals of binary numbers would not add up. */
export function sums(lines: Pick<Schemas['CreditLine'], 'currency' | 'due' | 'open' | 'state'>[]): { currency: string; due: string; open: string; lapsed: string }[] {
  const out = new Map<string, { due: number; open: number; lapsed: number; places: number }>()
  const minor = (text: string) => Number(text.replace('.', ''))
  for (const l of lines) {
    const s = out.get(l.currency) ?? { due: 0, open: 0, lapsed: 0, places: (l.due.split('.')[1] ?? '').length }
    const left = minor(l.open)
    const gone = l.state === 'lapsed'
    out.set(l.currency, { ...s, due: s.due + minor(l.due), open: s.open + (gone ? 0 : left), lapsed: s.lapsed + (gone ? left : 0) })
  }
  return [...out].map(([currency, s]) => {
    const written = (n: number) => (n / 10 ** s.places).toFixed(s.places)
    return { currency, due: written(s.due), open: written(s.open), lapsed: written(s.lapsed) }
  })
}
