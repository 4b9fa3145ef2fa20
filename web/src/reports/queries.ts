import { useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

/** What published reports owe, and what happened to it. */
export const useCredits = () => useQuery({ queryKey: ['credits'], queryFn: () => ask(api.GET('/api/v1/credits')).then((l) => l.items) })

/** Links to a published report, and who opened them. */
export const useReportLinks = (id: string) => useQuery({ queryKey: ['report-links', id], queryFn: () => ask(api.GET('/api/v1/reports/{id}/links', { params: { path: { id } } })).then((l) => l.items) })

/** Days whose measurements are not dropped. */
export const useLegalHolds = () => useQuery({ queryKey: ['legal-holds'], queryFn: () => ask(api.GET('/api/v1/legal-holds')).then((l) => l.items) })
