import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'

export type Incident = Schemas['IncidentView']
export type Detail = Schemas['IncidentDetail']
export type Filter = { find: string; severity: string; service: string; review: string; mine: string }

const narrowed = (f: Filter) => ({
  find: f.find || undefined,
  severity: (f.severity || undefined) as Incident['severity'] | undefined,
  service: f.service || undefined,
  assignee: f.mine || undefined,
})

/** The latest that are open, to go from one to the next. */
export const useOpenIncidents = () =>
  useQuery({ queryKey: ['incidents', 'open'], queryFn: () => ask(api.GET('/api/v1/incidents', { params: { query: { open: 'true', most: 200 } } })) })

/** Those that are open, or those that are over and reach into a time, a hundred at a time. */
export const useIncidents = (f: Filter, open: boolean, from = '', to = '') =>
  useInfiniteQuery({
    queryKey: ['incidents', 'pages', open, f, from, to],
    queryFn: ({ pageParam: before }) =>
      ask(
        api.GET('/api/v1/incidents', {
          params: { query: { ...narrowed(f), open: open ? 'true' : 'false', reviewed: open ? undefined : ((f.review || undefined) as 'true' | undefined), from: from || undefined, to: to || undefined, before: before || undefined, most: 100 } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    refetchInterval: open ? 30_000 : false,
  })

export const useIncident = (id: number, wider: number) =>
  useQuery({
    queryKey: ['incident', id, wider],
    queryFn: () => ask(api.GET('/api/v1/incidents/{id}', { params: { path: { id }, query: { wider } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  })

export const useIncidentPeople = () => useQuery({ queryKey: ['incidents', 'people'], queryFn: () => ask(api.GET('/api/v1/incidents/people')).then((l) => l.items), staleTime: 60_000 })

/** Does something with an incident, and shows what came of it. */
export function useDeed<V = void>(does: (v: V) => Promise<unknown>) {
  return useChange({
    mutationFn: does,
    again: ['incident', 'incidents', 'standing'],
    unawaited: true, // the form that it was done with closes at once
  })
}

/** What was written, for those something was promised to, about trouble under an agreement. */
export const useNotes = (agreement: string) =>
  useQuery({ queryKey: ['incidents', 'notes', agreement], queryFn: () => ask(api.GET('/api/v1/agreements/{id}/notes', { params: { path: { id: agreement } } })).then((l) => l.items) })
