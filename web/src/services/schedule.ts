import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'
import { useSettled } from '../parts/settled'

type Spec = Schemas['CheckSpec']
type Schedule = Schemas['Schedule']

/** A whole number of a field; 0, which says nothing, where it holds none. */
const whole = (v: unknown, most: number): number => {
  const n = Number(v)
  return Number.isInteger(n) && n > 0 && n <= most ? n : 0
}

/** The schedule of a check as it stands in its form, finished or not. */
export function scheduleOf(c: Spec): Schedule {
  const rolling = c.rolling && { runs: whole(c.rolling.runs, 10_000), locations: whole(c.rolling.locations, 1000), window_s: whole(c.rolling.window_s, 86_400) }
  const sent = { ping: [c.ping?.packets, c.ping?.size_bytes], path: [c.path?.rounds, c.path?.size_bytes], udp: [c.udp?.packets, 0], http: [0, c.http?.body?.length] }[c.kind as string] ?? []
  return {
    kind: c.kind,
    interval_s: whole(c.interval_s, 86_400),
    timeout_ms: whole(c.timeout_ms, 60_000),
    confirm: whole(c.confirm, 100),
    retry_s: whole(c.retry_s, 3600),
    rolling: rolling && rolling.runs && rolling.locations && rolling.window_s ? rolling : undefined,
    locations: c.locations.length,
    limits: (c.limits ?? []).map((l) => (l.measure === 'loss_percent' ? known(l) : { measure: l.measure })),
    packets: whole(sent[0], 3000),
    size_bytes: whole(sent[1], 1_000_000),
    codec: c.kind === 'udp' ? c.udp?.codec : undefined,
  }
}

/** A limit without the numbers that are none. */
const known = (l: Schemas['Limit']) => Object.fromEntries(Object.entries(l).filter(([, v]) => typeof v !== 'number' || Number.isFinite(v))) as Schemas['Limit']

/** What the server says that a form means, when the typing rests. */
function useAsked<Q, A>(name: string, question: Q | undefined, answer: (q: Q) => Promise<A>) {
  const key = JSON.stringify(question)
  const settled = useSettled(question, key, 200)
  return useQuery({ queryKey: [name, JSON.stringify(settled)], queryFn: () => answer(settled as Q), enabled: settled !== undefined, placeholderData: keepPreviousData, staleTime: Infinity, retry: false })
}

/** What schedules cost, how soon they are certain of a failure and what they can prove. */
export const useEffects = (question: Schemas['Schedules'] | undefined) => useAsked('effects', question, (q) => ask(api.POST('/api/v1/schedules', { body: q })))

/** The checks that what was proposed would become, and what they would cost. */
export const useTaking = (question: Schemas['Taking'] | undefined) => useAsked('taking', question, (q) => ask(api.POST('/api/v1/proposals/preview', { body: q })))
