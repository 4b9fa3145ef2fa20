import { useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

/** What published reports owe, and what happened to it. */
export const useCredits = () => useQuery({ queryKey: ['credits'], queryFn: () => ask(api.GET('/api/v1/credits')).then((l) => l.items) })
