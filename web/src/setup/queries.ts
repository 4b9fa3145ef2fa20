import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'

/** Kits of checks, retired ones too. */
export const useKits = () => useQuery({ queryKey: ['kits'], queryFn: () => ask(api.GET('/api/v1/kits')).then((l) => l.items) })

/** The kit that would be made of a service's checks. */
export const useKitOf = (service: string) =>
  useQuery({ queryKey: ['kits', 'proposal', service], queryFn: () => ask(api.POST('/api/v1/kits/proposal', { body: { service, name: '' } })), enabled: service !== '' })

/** When the secret of each credential was given, and by whom. */
export const useSecrets = () => useQuery({ queryKey: ['secrets'], queryFn: () => ask(api.GET('/api/v1/credentials/secrets')).then((l) => l.items) })

/** Selections, retired ones too. */
export const useSelections = () => useQuery({ queryKey: ['selections', 'all'], queryFn: () => ask(api.GET('/api/v1/selections')).then((l) => l.items) })

/** What a selection would take now. */
export const useWouldTake = (spec: Schemas['SelectionSpec'], enabled: boolean) =>
  useQuery({ queryKey: ['selections', 'preview', spec], queryFn: () => ask(api.POST('/api/v1/selections/preview', { body: { spec } })), enabled, placeholderData: keepPreviousData, retry: false })

/** The checks that a pair plan would have. */
export const usePairsOf = (id: string | undefined, spec: Schemas['PairPlanSpec'], enabled: boolean) =>
  useQuery({ queryKey: ['pair-preview', id, spec], queryFn: () => ask(api.POST('/api/v1/pair-plans/preview', { body: { id, spec } })), enabled, placeholderData: keepPreviousData, retry: false })

/** What each check of a pair plan measured last. */
export const useReach = (plan: string) =>
  useQuery({ queryKey: ['reach', plan], queryFn: () => ask(api.GET('/api/v1/pair-plans/{id}/reach', { params: { path: { id: plan } } })).then((l) => l.items), refetchInterval: 15_000 })

const lines = 100

export type TrailFilter = Partial<Record<'person' | 'action' | 'subject' | 'from' | 'to', string>>

/** The trail, newest first, by pages. */
export const useTrail = (filter: TrailFilter) =>
  useInfiniteQuery({
    queryKey: ['trail', filter],
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/trail', { params: { query: { ...filter, before: pageParam, limit: lines } } })).then((l) => l.items),
    initialPageParam: 0 as number,
    getNextPageParam: (last) => (last.length < lines ? undefined : last.at(-1)?.id),
  })

/** What stands in the trail as done. */
export const useTrailActions = () => useQuery({ queryKey: ['trail-actions'], queryFn: () => ask(api.GET('/api/v1/trail/actions')).then((l) => l.items) })
