import type { Schemas } from '../api/client'

type Spec = Schemas['NoticePlanSpec']
export type Recipient = Schemas['Recipient']

export const kindWords: Record<string, string> = { mail: 'e-mail', sms: 'SMS', webhook: 'webhook', chat: 'chat room', syslog: 'syslog', script: 'script', inbox: 'inbox', '': 'nothing' }

export const whatWords: Record<string, string> = {
  begun: 'that it began',
  again: 'that it lasts',
  worse: 'that it is more severe',
  cause: 'its cause',
  clear: 'that it is over',
  reminder: 'that it is theirs still',
  summary: 'a summary',
  work: 'planned work',
}

export const stateWords: Record<string, string> = { sent: 'sent', queued: 'under way', held: 'held back', failed: 'failed', suppressed: 'not sent' }

/** "a, b and c". */
export function listed(list: string[]): string {
  if (list.length < 2) return list.join('')
  return `${list.slice(0, -1).join(', ')} and ${list.at(-1) ?? ''}`
}

/** A length of time as a plan says it: "10 min", "4 h". */
export function lengthOf(seconds: number): string {
  const h = Math.floor(seconds / 3600)
  const min = Math.floor((seconds % 3600) / 60)
  const s = seconds % 60
  return [h && `${h} h`, min && `${min} min`, s && `${s} s`].filter(Boolean).join(' ') || '0 min'
}

export const keyOf = (r: Recipient): string => (r.pool ? `pool ${r.pool}` : r.contact ? `contact ${r.contact}` : `person ${r.person ?? ''}`)

export function recipientOf(key: string): Recipient {
  const [kind, ...rest] = key.split(' ')
  const id = rest.join(' ')
  return kind === 'pool' ? { pool: id } : kind === 'contact' ? { contact: id } : { person: id }
}

/** A notice plan in sentences, complete: each field has a part in one. */
export function sentences(p: Spec, names: { receiver: (r: Recipient) => string; plan: (id: string) => string; selection: (id: string) => string }): string[] {
  const out = p.steps.map((s) => {
    const when = s.after_s === 0 ? 'At once' : `After ${lengthOf(s.after_s)} without an acknowledgement`
    const by = s.by?.length ? ` by ${listed(s.by.map((k) => kindWords[k] ?? k))}` : ''
    const again = s.repeat_s ? `, again every ${lengthOf(s.repeat_s)}${s.most ? `, ${s.most} ${s.most === 1 ? 'time' : 'times'} at most` : ''}` : ''
    return `${when}: ${listed(s.tell.map(names.receiver)) || 'nobody'}${by}${again}.`
  })
  const about = { service: 'services', check: 'checks that inform', location: 'locations', agreement: 'allowances' }
  const conditions = [
    p.severities?.length ? `that are ${p.severities.join(' or ')}` : '',
    p.about?.length ? `of ${listed(p.about.map((a) => about[a]))}` : '',
    p.check_kinds?.length ? `whose kind is ${p.check_kinds.join(' or ')}` : '',
    p.tags?.length ? `of services tagged ${p.tags.join(' or ')}` : '',
    p.agreed ? `while it is ${p.agreed} service hours` : '',
    p.selections?.length ? `in the selection ${p.selections.map(names.selection).join(' or ')}` : '',
  ].filter(Boolean)
  out.push(p.everywhere ? `${['For all incidents', ...conditions].join(' ')}.` : `${['For incidents of services that name it, or whose team does', ...conditions].join(', ')}.`)
  out.push(p.no_all_clear ? 'The end is not told.' : 'Those who were told are told the end.')
  const digest = p.digest ? `at ${listed(p.digest.at)}${p.digest.days?.length ? `, ${daysWords(p.digest.days)}` : ' every day'}, ${p.digest.timezone}` : ''
  if (p.hours) {
    const outside = p.outside === 'digest' ? `stands in one message ${digest}` : p.outside === 'plan' ? `is left to ${names.plan(p.instead ?? '')} until they begin` : 'waits'
    out.push(`Only ${weekWords(p.hours)}; what is due outside ${outside}.`)
  } else if (digest) out.push(`Nothing is told at once, but all of it in one message ${digest}.`)
  if (p.remind_s) out.push(`Who acknowledged it is reminded every ${lengthOf(p.remind_s)}.`)
  if (p.most_per_hour) out.push(`At most ${p.most_per_hour} ${p.most_per_hour === 1 ? 'incident' : 'incidents'} an hour are told one by one to each receiver, the rest in a summary.`)
  return out
}

const days = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU']
export const dayNames: Record<string, string> = { MO: 'Mon', TU: 'Tue', WE: 'Wed', TH: 'Thu', FR: 'Fri', SA: 'Sat', SU: 'Sun' }

/** Days of the week: "daily", "Mon–Fri", "Mon, Wed". */
export function daysWords(list: string[]): string {
  const at = list.map((d) => days.indexOf(d)).sort((a, b) => a - b)
  const [first, last] = [at[0], at.at(-1)]
  const name = (i: number) => dayNames[days[i] ?? ''] ?? ''
  if (at.length === 7) return 'daily'
  return first !== undefined && last !== undefined && at.length > 2 && last - first === at.length - 1 ? `${name(first)}–${name(last)}` : at.map(name).join(', ')
}

/** Hours by the week: "Mon–Fri 08:00 to 16:00, Europe/Oslo". */
export function weekWords(w: Schemas['WeeklyPlan']): string {
  const rows = (w.weekly ?? []).map((r) => `${daysWords(r.days ?? [])} ${r.from} to ${r.to}`)
  const off = w.holidays?.length ?? 0
  return `${rows.join(' and ')}, ${w.timezone}${off ? `, but ${off === 1 ? 'on 1 day' : `on ${off} days`} off` : ''}`
}
