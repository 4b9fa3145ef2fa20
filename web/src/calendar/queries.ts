import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'

export type Lane = Schemas['CalendarLane']
export type Work = Schemas['CalendarWork']
export type WindowSpec = Schemas['WindowSpec']

export const useWindows = (enabled = true) => useQuery({ queryKey: ['windows'], queryFn: () => ask(api.GET('/api/v1/windows')).then((l) => l.items), enabled })

export const useEmbargoes = () => useQuery({ queryKey: ['embargoes'], queryFn: () => ask(api.GET('/api/v1/embargoes')).then((l) => l.items) })

export const useCalendar = (query: { from?: string; days: number; find?: string; quiet?: boolean; count?: number }) =>
  useQuery({
    queryKey: ['calendar', query],
    queryFn: () => ask(api.GET('/api/v1/calendar', { params: { query } })),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  })

/** What a window would do. */
export const useWork = (ask_: { id?: string; spec: WindowSpec } | undefined) =>
  useQuery({
    queryKey: ['calendar', 'work', ask_],
    queryFn: () => ask(api.POST('/api/v1/windows/preview', { body: ask_ ?? { spec: {} as WindowSpec } })),
    enabled: ask_ !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  })

/** When work on services would cost least. */
export const useSlots = (services: string[], lasts: number, window?: string) =>
  useQuery({
    queryKey: ['calendar', 'slots', services, lasts, window],
    queryFn: () => ask(api.GET('/api/v1/windows/slots', { params: { query: { services, lasts_s: lasts, window } } })),
    enabled: services.length > 0 && lasts >= 60 && lasts <= 172_800,
    placeholderData: keepPreviousData,
    retry: false,
  })

/** What a window does that is there. */
export const useWindowWork = (id: string, enabled: boolean) =>
  useQuery({ queryKey: ['calendar', 'window', id], queryFn: () => ask(api.GET('/api/v1/windows/{id}/work', { params: { path: { id } } })), enabled, placeholderData: keepPreviousData })

/** Planned work that waits for a second person, or waited. */
export const useWorkRequest = (id: number) => useQuery({ queryKey: ['calendar', 'request', id], queryFn: () => ask(api.GET('/api/v1/work-requests/{id}', { params: { path: { id } } })), retry: false })

/** The calendar's feeds that one has made. */
export const useFeeds = () => useQuery({ queryKey: ['calendar-feeds'], queryFn: () => ask(api.GET('/api/v1/calendar-feeds')).then((l) => l.items) })
