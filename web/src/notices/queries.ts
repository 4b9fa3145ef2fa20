import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'

export type Plan = Schemas['DefinedNoticePlanSpec']
export type Pool = Schemas['DefinedPoolSpec']
export type Contact = Schemas['DefinedContactSpec']
export type Relay = Schemas['DefinedRelaySpec']
export type Delivery = Schemas['DeliveryView']

export const usePlans = () => useQuery({ queryKey: ['notice-plans'], queryFn: () => ask(api.GET('/api/v1/notice-plans')).then((l) => l.items) })

export const usePools = () => useQuery({ queryKey: ['pools'], queryFn: () => ask(api.GET('/api/v1/pools')).then((l) => l.items) })

export const useContacts = () => useQuery({ queryKey: ['contact-methods'], queryFn: () => ask(api.GET('/api/v1/contact-methods')).then((l) => l.items) })

export const useRelays = () => useQuery({ queryKey: ['relays'], queryFn: () => ask(api.GET('/api/v1/relays')).then((l) => l.items) })

export const useNoticePeople = () => useQuery({ queryKey: ['notice-people'], queryFn: () => ask(api.GET('/api/v1/notice-people')).then((l) => l.items) })

export const useDuty = (span?: string) => useQuery({ queryKey: ['duty', span], queryFn: () => ask(api.GET('/api/v1/duty', { params: { query: { span } } })), placeholderData: keepPreviousData, refetchInterval: 60_000 })

export const useGaps = () => useQuery({ queryKey: ['notice-gaps'], queryFn: () => ask(api.GET('/api/v1/notice-gaps')).then((l) => l.items), refetchInterval: 300_000 })

export type Asked = { about: 'service' | 'check' | 'location'; id: string; state: 'down' | 'degraded'; at?: string }

export const useRehearsal = (q: Asked) =>
  useQuery({ queryKey: ['rehearsal', q], queryFn: () => ask(api.GET('/api/v1/rehearsal', { params: { query: q } })), enabled: Boolean(q.id), placeholderData: keepPreviousData, retry: false })

export type DeliveryFilter = { state: string; kind: string; find: string; from?: string; to?: string }

export const useDeliveries = (f: DeliveryFilter) =>
  useInfiniteQuery({
    queryKey: ['deliveries', f],
    queryFn: ({ pageParam: before }) =>
      ask(api.GET('/api/v1/deliveries', { params: { query: { state: (f.state || undefined) as Delivery['state'] | undefined, kind: (f.kind || undefined) as Exclude<Delivery['kind'], ''> | undefined, find: f.find || undefined, from: f.from, to: f.to, before: before || undefined, count: 100 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  })

export const useIncidentNotices = (id: number) =>
  useQuery({ queryKey: ['incident', 'notices', id], queryFn: () => ask(api.GET('/api/v1/incidents/{id}/notices', { params: { path: { id } } })), refetchInterval: 15_000 })

export const useInbox = (enabled: boolean) => useQuery({ queryKey: ['inbox'], queryFn: () => ask(api.GET('/api/v1/me/inbox')), enabled, refetchInterval: 60_000 })

export const useOwnMethods = () => useQuery({ queryKey: ['own-methods'], queryFn: () => ask(api.GET('/api/v1/me/contact-methods')).then((l) => l.items) })

/** Holds of notices, those that are over too. */
export const useHolds = () => useQuery({ queryKey: ['holds'], queryFn: () => ask(api.GET('/api/v1/holds')).then((l) => l.items), refetchInterval: 60_000 })
