import { useQuery } from '@tanstack/react-query'
import { api, ask } from '../api/client'

/** Whether nobody is there yet, and what the server was started with. */
export const useFirst = () => useQuery({ queryKey: ['first'], queryFn: () => ask(api.GET('/api/v1/first-person')) })

/** Where one is signed in. */
export const useOwnSessions = () => useQuery({ queryKey: ['own-sessions'], queryFn: () => ask(api.GET('/api/v1/me/sessions')).then((l) => l.items) })

/** What a link acknowledges. */
export const useAcknowledgement = (token: string) =>
  useQuery({ queryKey: ['acknowledgement', token], queryFn: () => ask(api.POST('/api/v1/acknowledgements/read', { body: { token } })), retry: false, enabled: token !== '' })
