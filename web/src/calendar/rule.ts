/** How often something is planned, as the form asks for it. */
export type Repeat = 'once' | 'daily' | 'weekly' | 'monthly' | 'rule'

export const repeats: Record<Repeat, string> = { once: 'once', daily: 'every day', weekly: 'by the week', monthly: 'by the month', rule: 'by a rule of its own' }

export const days: Record<string, string> = { MO: 'Monday', TU: 'Tuesday', WE: 'Wednesday', TH: 'Thursday', FR: 'Friday', SA: 'Saturday', SU: 'Sunday' }

export const nths: Record<string, string> = { 1: 'first', 2: 'second', 3: 'third', 4: 'fourth', '-1': 'last' }

export type RuleValues = { repeat: Repeat; every: string; on: string[]; nth: string; day: string; until: string; rule: string }

export const noRule: RuleValues = { repeat: 'once', every: '1', on: [], nth: '1', day: 'MO', until: '', rule: '' }

/** The rule as RFC 5545 writes it; empty: once. Whether it can be is the server's to say. */
export function written(v: RuleValues): string {
  const every = v.every.trim() && v.every.trim() !== '1' ? `;INTERVAL=${v.every.trim()}` : ''
  const until = v.until ? `;UNTIL=${v.until.replaceAll('-', '')}T235959` : ''
  switch (v.repeat) {
    case 'daily':
      return `FREQ=DAILY${every}${until}`
    case 'weekly':
      return `FREQ=WEEKLY${every}${v.on.length ? `;BYDAY=${Object.keys(days).filter((d) => v.on.includes(d)).join(',')}` : ''}${until}`
    case 'monthly':
      return `FREQ=MONTHLY${every};BYDAY=${v.nth}${v.day}${until}`
    case 'rule':
      return v.rule.trim().replace(/^RRULE:/i, '')
    default:
      return ''
  }
}

/** What the form shows of a rule; one that it cannot show stands as it is written. */
export function read(rule: string | undefined): RuleValues {
  if (!rule) return noRule
  const own: RuleValues = { ...noRule, repeat: 'rule', rule }
  const parts = new Map(rule.toUpperCase().split(';').map((p) => p.split('=', 2) as [string, string]))
  const take = (name: string) => {
    const v = parts.get(name) ?? ''
    parts.delete(name)
    return v
  }
  const freq = take('FREQ')
  const every = take('INTERVAL') || '1'
  const until = take('UNTIL')
  const end = /^(\d{4})(\d\d)(\d\d)T235959$/.exec(until)
  if (until && !end) return own
  const common = { ...noRule, every, until: end ? `${end[1]}-${end[2]}-${end[3]}` : '' }
  let out: RuleValues | undefined
  if (freq === 'DAILY') out = { ...common, repeat: 'daily' }
  if (freq === 'WEEKLY') {
    const on = take('BYDAY')
    const list = on ? on.split(',') : []
    if (list.every((d) => d in days)) out = { ...common, repeat: 'weekly', on: list }
  }
  if (freq === 'MONTHLY') {
    const by = /^(-?\d)?([A-Z]{2})$/.exec(take('BYDAY'))
    const nth = by?.[1] ?? take('BYSETPOS')
    if (by?.[2] && by[2] in days && nth in nths) out = { ...common, repeat: 'monthly', nth, day: by[2] }
  }
  return out && parts.size === 0 ? out : own
}
