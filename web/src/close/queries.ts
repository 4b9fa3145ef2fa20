import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'

export type Page = Schemas['ClosePage']
export type Question = Schemas['QuestionView']
export type Line = Schemas['CloseLine']
export type Adjust = Schemas['NewAdjustment']

/** How far the closes of a band are; absent: of the month before this. */
export const useCloses = (span: string | undefined) => useQuery({ queryKey: ['closes', span], queryFn: () => ask(api.GET('/api/v1/closes', { params: { query: { span } } })), placeholderData: keepPreviousData, refetchInterval: 60_000 })

export const askClose = (id: string, period: string) => ask(api.GET('/api/v1/closes/{id}', { params: { path: { id }, query: { period } } }))

export const useClose = (id: string, period: string) => useQuery({ queryKey: ['close', id, period], queryFn: () => askClose(id, period), retry: false, refetchInterval: 60_000 })

/** The figures before and after an adjustment; undefined: none is thought of. */
export const useWouldAdjust = (a: Adjust | undefined) =>
  useQuery({ queryKey: ['would-adjust', a], queryFn: () => ask(api.POST('/api/v1/adjustments/preview', { body: a as Adjust })), enabled: a !== undefined, placeholderData: keepPreviousData, retry: false })

/** What a close is asked for by: its agreement and its period. */
export const closePath = (p: Page) => ({ params: { path: { id: p.agreement.id }, query: { period: p.period.name } } })

/** Freezes the account of a close as it was seen. */
export const freeze = (p: Page) => ask(api.POST('/api/v1/closes/{id}/freeze', { ...closePath(p), body: { seen: p.seen } }))
