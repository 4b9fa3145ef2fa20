import { useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

/** What published reports owe, and what happened to it. */
export const useCredits = () => useQuery({ queryKey: ['credits'], queryFn: () => ask(api.GET('/api/v1/credits')).then((l) => l.items) })

/** Days whose measurements are not dropped. */
export const useLegalHolds = () => useQuery({ queryKey: ['legal-holds'], queryFn: () => ask(api.GET('/api/v1/legal-holds')).then((l) => l.items) })
