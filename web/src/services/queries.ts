import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

/** Measurements that are made once, on demand; asked for until all have ended. */
export const useTrials = (ids: string[]) =>
  useQuery({
    queryKey: ['trials', ids.join()],
    queryFn: async () => {
      const most = 200 // a request's
      const parts = []
      for (let i = 0; i < ids.length; i += most) parts.push(ask(api.GET('/api/v1/trials', { params: { query: { ids: ids.slice(i, i + most) } } })))
      return (await Promise.all(parts)).flatMap((l) => l.items)
    },
    enabled: ids.length > 0,
    refetchInterval: (q) => (q.state.data?.every((t) => t.state === 'done' || t.state === 'lost') ? false : 700),
  })

/** The checks that others report in to. */
export const useReportIns = () => useQuery({ queryKey: ['report-ins'], queryFn: () => ask(api.GET('/api/v1/report-ins')).then((l) => l.items) })

/** What would follow if some services failed from a moment on, for so many seconds. */
export const useSupposition = (services: string[], from: string | undefined, lasts: number) =>
  useQuery({
    queryKey: ['supposition', services, from, lasts],
    queryFn: () => ask(api.GET('/api/v1/supposition', { params: { query: { services, from, lasts_s: lasts } } })),
    enabled: services.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  })
