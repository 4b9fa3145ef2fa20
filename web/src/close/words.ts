import { counted } from '../parts/counted'
import { between, duration, durationUp, fullTime, secondTime, shortDay, shortTime } from '../time/format'
import type { Line, Question } from './queries'

/** What is open, of one kind or several of it. */
const kinds: Record<Question['kind'], [string, string]> = {
  adjustment: ['adjustment waits', 'adjustments wait'],
  coverage: ['verdict is insufficient', 'verdicts are insufficient'],
  unmeasured: ['time not measured', 'times not measured'],
  outage: ['outage without a cause', 'outages without a cause'],
  work: ['window not granted in full', 'windows not granted in full'],
  edited: ['definition edited', 'definitions edited'],
  incident: ['incident not reviewed', 'incidents not reviewed'],
  late: ['location was late', 'locations were late'],
  clock: ['clock unsure', 'clocks unsure'],
  objection: ['objection open', 'objections open'],
  claim: ['supplier owes', 'suppliers owe'],
}

/** What is open of a close, in one line. */
export function openWords(l: Line): string {
  const parts = (Object.keys(kinds) as Question['kind'][]).filter((k) => l.open[k]).map((k) => counted(l.open[k] ?? 0, kinds[k][0], kinds[k][1]))
  return parts.join(', ')
}

/** How long it was: of an outage what lies between its beginning and end as they are printed. */
function long(q: Question): string {
  if (q.kind !== 'outage') return duration(q.ms)
  return q.from && q.to && q.ms === Date.parse(q.to) - Date.parse(q.from) ? between(q.from, q.to) : durationUp(q.ms)
}

/** A question in a list: what it is about, in few words. */
export function shortly(q: Question, zone: string): string {
  const on = q.from ? shortDay(q.from, zone) : ''
  switch (q.kind) {
    case 'adjustment':
      return `adjustment of ${duration(q.ms)}, ${on}`
    case 'coverage':
      return 'less measured than agreed'
    case 'unmeasured':
      return q.count > 1 ? `${counted(q.count, 'short gap')}, ${duration(q.ms)} not measured` : `${duration(q.ms)} not measured, ${on}`
    case 'outage':
      return `outage of ${long(q)}, ${on}`
    case 'work':
      return `${q.subject?.name ?? 'work'}: ${duration(q.ms)} not granted, ${on}`
    case 'edited':
      return `${q.subject?.name ?? ''} edited, ${on}`
    case 'incident':
      return `${q.subject?.name ?? 'incident'} not reviewed, ${on}`
    case 'late':
      return `${counted(q.count, 'measurement')} of ${q.subject?.name ?? ''} came late`
    case 'clock':
      return `${counted(q.count, 'measurement')} of ${q.subject?.name ?? ''} unsure by ${durationUp(q.ms)}`
    case 'objection':
      return `an objection is open, ${on}`
    case 'claim':
      return `${q.subject?.name ?? 'a supplier'} owes`
  }
}

/** The question itself. */
export function asked(q: Question, service: string, zone: string): string {
  switch (q.kind) {
    case 'adjustment':
      return `Is this adjustment of ${service} right?`
    case 'coverage':
      return `Why was so little of ${service} measured?`
    case 'unmeasured':
      return q.count > 1 ? `Why was ${service} not measured in ${counted(q.count, 'short gap')}?` : `Why was ${service} not measured on ${shortDay(q.from ?? '', zone)}?`
    case 'outage':
      return `What caused the outage of ${service} on ${shortDay(q.from ?? '', zone)}?`
    case 'work':
      return `Is it right that ${q.subject?.name ?? 'the work'} was not granted in full?`
    case 'edited':
      return `Does the edit of ${q.subject?.name ?? ''} change what the account says?`
    case 'incident':
      return `What is there to say to ${q.subject?.name ?? 'the incident'}?`
    case 'late':
      return `Why did ${counted(q.count, 'measurement')} of ${service} from ${q.subject?.name ?? ''} come late?`
    case 'clock':
      return `Does it matter that the clock of ${q.subject?.name ?? ''} was unsure by up to ${durationUp(q.ms)}?`
    case 'objection':
      return `What becomes of the objection to ${q.subject?.name ?? 'the report'}?`
    case 'claim':
      return `Is what ${q.subject?.name ?? 'the supplier'} owes claimed?`
  }
}

/** When it was, in full. */
export function when(q: Question, zone: string): string {
  if (!q.from) return ''
  if (q.kind === 'objection') return fullTime(q.from, zone)
  if (q.kind === 'late' || q.kind === 'clock') return q.to ? `${fullTime(q.from, zone)} to ${shortTime(q.to, zone)}` : fullTime(q.from, zone)
  if (q.kind === 'edited') return `${q.count > 1 ? `${q.count} times, the last ` : ''}${fullTime(q.from, zone)}`
  return q.to ? `${fullTime(q.from, zone)} to ${secondTime(q.to, zone)}, ${long(q)}` : `since ${fullTime(q.from, zone)}`
}

export const causes: Record<string, string> = { '': 'not known', measurement: 'our measuring', 'third-party': 'a third party', customer: 'the customer', 'force-majeure': 'force majeure', other: 'something else' }
