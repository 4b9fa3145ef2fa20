import type { Schemas } from '../api/client'
import { decimal } from '../parts/decimal'
import { cycleOf, cycleValues, type CycleValues } from './cycle-fields'

export type Spec = Schemas['AgreementSpec']
type Plan = Schemas['HoursSpec']

/** Hours by the week as fields hold them: holidays are dates, one a line. */
export type PlanValues = { timezone: string; weekly: Schemas['WeeklyRow'][]; holidays: string; lists: string[] }

/** Every clause of an agreement as fields hold it. */
export type Values = CycleValues & {
  name: string
  customer: string
  contract: string
  service: string
  timezone: string
  target_percent: string
  from: string
  until: string
  degraded_weight_percent: string
  unmeasured: 'exclude' | 'down' | 'up'
  min_outage_s: number
  min_coverage_percent: string
  hours: 'always' | 'weekly'
  plan: PlanValues
  mode: 'ignore' | 'exclude' | 'forgive'
  notice_h: string
  cap_h: string
  within: 'any' | 'weekly'
  within_plan: PlanValues
  emergency: 'no' | 'yes'
  emergency_notice_min: string
  emergency_cap_h: string
  excuse: string[]
  lead_s: string
  linger_s: string
  credits: { below_percent: string; credit_percent: string }[]
  fee: string
  currency: string
  latency_check: string
  latency_limit_ms: string
  latency_percent: string
  outages_at_most: string
  longest_min: string
  mttr_min: string
  reason: string
  /** Name of the period that an edit counts from as a correction, empty for the next one, or splits. */
  corrects: string
  split_from: string
}

/** Said in place of a period by an edit that splits one: it ends the agreement, and begins another. */
export const splits = 'split'

/** The fields of faults that the server names otherwise; see showFaults. */
export const fieldOf = {
  'service_hours.holiday_lists[': 'plan.lists',
  'maintenance.within.holiday_lists[': 'within_plan.lists',
  'service_hours.holidays[': 'plan.holidays',
  'maintenance.within.holidays[': 'within_plan.holidays',
  'service_hours.': 'plan.',
  'maintenance.within.': 'within_plan.',
  'maintenance.mode': 'mode',
  'maintenance.notice_s': 'notice_h',
  'maintenance.cap_s': 'cap_h',
  'maintenance.emergency.notice_s': 'emergency_notice_min',
  'maintenance.emergency.cap_s': 'emergency_cap_h',
  'maintenance.emergency': 'emergency',
  'fee.amount': 'fee',
  'fee.currency': 'currency',
  fee: 'fee',
  'upstream.lead_s': 'lead_s',
  'upstream.linger_s': 'linger_s',
  'upstream.': 'excuse',
  'latency.check': 'latency_check',
  'latency.limit_ms': 'latency_limit_ms',
  'latency.target_percent': 'latency_percent',
  'objectives.outages_at_most': 'outages_at_most',
  'objectives.longest_outage_s': 'longest_min',
  'objectives.mttr_s': 'mttr_min',
  'period.': '',
}

/** What fields are called where their names do not say it. */
export const fieldNames = {
  target_percent: 'Target',
  timezone: 'In the zone',
  unit: 'Accounted by the',
  degraded_weight_percent: 'Degraded counts as downtime to',
  unmeasured: 'Time not measured',
  min_outage_s: 'Tolerate outages shorter than',
  min_coverage_percent: 'No verdict below a coverage of',
  hours: 'Service hours',
  plan: 'Service hours',
  mode: 'Announced maintenance',
  notice_h: 'Notice',
  cap_h: 'Cap a period',
  within: 'Work is agreed',
  within_plan: 'Times agreed for work',
  emergency: 'Emergency work',
  excuse: 'Excused services',
  latency_check: 'Answers in time',
}

/** A number of whole units of so many seconds as a field shows it, and back; empty is none. */
const shownIn = (seconds: number | null | undefined, unit: number): string => (seconds == null ? '' : String(seconds / unit))
const secondsOf = (text: string, unit: number): number | undefined => (text.trim() === '' ? undefined : Math.round(Number(decimal(text)) * unit))

export const days = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU']

const planValues = (p: Plan | null | undefined, zone: string, row: Schemas['WeeklyRow']): PlanValues => ({
  timezone: p?.timezone ?? zone,
  weekly: p?.weekly?.length ? p.weekly : [row],
  holidays: (p?.holidays ?? []).join('\n'),
  lists: p?.holiday_lists ?? [],
})

const planOf = (v: PlanValues): Plan => ({ timezone: v.timezone, weekly: v.weekly, holidays: v.holidays.split(/[\s,;]+/).filter(Boolean), holiday_lists: v.lists.length ? v.lists : undefined })

export function values(a: Spec | undefined, zone: string, service: string): Values {
  const maintenance = a?.maintenance
  const own = a?.timezone ?? zone
  return {
    name: a?.name ?? '',
    customer: a?.customer ?? '',
    contract: a?.contract ?? '',
    service: a?.service ?? service,
    timezone: own,
    target_percent: a?.target_percent ?? '99.9',
    from: a?.from ?? '',
    until: a?.until ?? '',
    ...cycleValues(a?.period),
    degraded_weight_percent: a?.degraded_weight_percent ?? '0',
    unmeasured: a?.unmeasured ?? 'exclude',
    min_outage_s: a?.min_outage_s ?? 0,
    min_coverage_percent: a?.min_coverage_percent ?? '0',
    hours: a?.service_hours ? 'weekly' : 'always',
    plan: planValues(a?.service_hours, own, { days: days.slice(0, 5), from: '08:00', to: '18:00' }),
    mode: (maintenance?.mode as Values['mode'] | undefined) ?? 'ignore',
    notice_h: shownIn(maintenance?.notice_s ?? 0, 3600),
    cap_h: shownIn(maintenance?.cap_s, 3600),
    within: maintenance?.within ? 'weekly' : 'any',
    within_plan: planValues(maintenance?.within, own, { days: ['SU'], from: '00:00', to: '06:00' }),
    emergency: maintenance?.emergency ? 'yes' : 'no',
    emergency_notice_min: shownIn(maintenance?.emergency?.notice_s ?? 0, 60),
    emergency_cap_h: shownIn(maintenance?.emergency?.cap_s, 3600),
    excuse: a?.upstream?.excuse ?? [],
    lead_s: String(a?.upstream?.lead_s ?? 0),
    linger_s: String(a?.upstream?.linger_s ?? 0),
    credits: a?.credits ?? [],
    fee: a?.fee?.amount ?? '',
    currency: a?.fee?.currency ?? '',
    latency_check: a?.latency?.check ?? '',
    latency_limit_ms: a?.latency ? String(a.latency.limit_ms) : '',
    latency_percent: a?.latency?.target_percent ?? '',
    outages_at_most: shownIn(a?.objectives?.outages_at_most, 1),
    longest_min: shownIn(a?.objectives?.longest_outage_s, 60),
    mttr_min: shownIn(a?.objectives?.mttr_s, 60),
    reason: '',
    corrects: '',
    split_from: '',
  }
}

/** The agreement that the fields describe. */
export function toSpec(v: Values): Spec {
  return {
    name: v.name,
    customer: v.customer,
    contract: v.contract || undefined,
    service: v.service,
    timezone: v.timezone,
    target_percent: decimal(v.target_percent),
    from: v.from || undefined,
    until: v.until || undefined,
    period: cycleOf(v),
    degraded_weight_percent: decimal(v.degraded_weight_percent) || '0',
    unmeasured: v.unmeasured,
    min_outage_s: Number(v.min_outage_s),
    min_coverage_percent: decimal(v.min_coverage_percent) || '0',
    service_hours: v.hours === 'always' ? undefined : planOf(v.plan),
    maintenance: v.mode === 'ignore' ? { mode: v.mode, notice_s: 0, cap_s: null } : {
      mode: v.mode,
      notice_s: secondsOf(v.notice_h, 3600) ?? 0,
      cap_s: secondsOf(v.cap_h, 3600) ?? null,
      within: v.within === 'any' ? undefined : planOf(v.within_plan),
      emergency: v.emergency === 'yes' ? { notice_s: secondsOf(v.emergency_notice_min, 60) ?? 0, cap_s: secondsOf(v.emergency_cap_h, 3600) } : undefined,
    },
    upstream: v.excuse.length ? { excuse: v.excuse, lead_s: secondsOf(v.lead_s, 1) ?? 0, linger_s: secondsOf(v.linger_s, 1) ?? 0 } : undefined,
    credits: v.credits.length ? v.credits.map((c) => ({ below_percent: decimal(c.below_percent), credit_percent: decimal(c.credit_percent) })) : undefined,
    fee: v.fee.trim() ? { amount: decimal(v.fee), currency: v.currency.trim().toUpperCase() } : undefined,
    latency: v.latency_check ? { check: v.latency_check, limit_ms: Number(decimal(v.latency_limit_ms)), target_percent: decimal(v.latency_percent) } : undefined,
    objectives: objectives(v),
  }
}

function objectives(v: Values): Spec['objectives'] {
  const out = { outages_at_most: secondsOf(v.outages_at_most, 1), longest_outage_s: secondsOf(v.longest_min, 60), mttr_s: secondsOf(v.mttr_min, 60) }
  return Object.values(out).some((x) => x !== undefined) ? out : undefined
}

/** What an account depends on: not the name, and not whom it was promised to. */
export const clauses = (s: Spec): string => JSON.stringify({ ...s, name: '', customer: '', contract: undefined, from: '', until: '', fee: undefined })
