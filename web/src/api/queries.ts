import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from './client'

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => ask(api.GET('/api/v1/session')), retry: false, staleTime: 300_000 })

type Permission = Schemas['Me']['may'][number]

/** What the person's role permits. */
export function useMay(): (what: Permission) => boolean {
  const may = useMe().data?.may
  return (what) => may?.includes(what) ?? false
}

/** Whether the person may define services, checks, agreements and locations. */
export const useMayDefine = (): boolean => useMay()('define')

/** Whether the person may change what a service is made of: one of a team, where they are limited to some. */
export function useMayChange(): (owner: string | undefined) => boolean {
  const me = useMe().data
  return (owner) => (me?.may.includes('define') ?? false) && (!me?.team_ids?.length || (owner !== undefined && me.team_ids.includes(owner)))
}

/** Whether the person may define what is for the whole organisation. */
export function useMayDefineForAll(): boolean {
  const me = useMe().data
  return (me?.may.includes('define') ?? false) && !me?.team_ids?.length
}

/** Those who own services or were promised something, and what was promised together. */
export type PartyKind = 'team' | 'customer' | 'contract'
export type Party = Schemas['DefinedTeamSpec'] | Schemas['DefinedCustomerSpec'] | Schemas['DefinedContractSpec']

/** Where they are listed and made. */
export const partyPaths = { team: '/api/v1/teams', customer: '/api/v1/customers', contract: '/api/v1/contracts' } as const

export const useParties = (kind: PartyKind) =>
  useQuery<Party[]>({ queryKey: ['parties', kind], queryFn: () => ask(api.GET(partyPaths[kind])).then((l) => l.items), enabled: useMay()('see') })

/** What each selection in force takes now. */
export const useSelected = () => useQuery({ queryKey: ['selections', 'members'], queryFn: () => ask(api.GET('/api/v1/selections/members')).then((l) => l.items), enabled: useMay()('see') })

export const useHolidayLists = () => useQuery({ queryKey: ['holiday-lists'], queryFn: () => ask(api.GET('/api/v1/holiday-lists')).then((l) => l.items) })

/** How many rows with strips are shown at once; more of them on demand. */
export const listed = 100

/** How all agreements stand, and the rows of the most urgent ones among those that match. */
export const useStanding = (span: string | undefined, find: string) =>
  useInfiniteQuery({
    queryKey: ['standing', span, find],
    queryFn: ({ pageParam: from }) => ask(api.GET('/api/v1/standing', { params: { query: { span, find: find || undefined, from, count: listed } } })),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => (pages.length * listed < last.found ? pages.length * listed : undefined),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  })

/** The accounts of some agreements in a band, asked for a hundred at a time. */
export async function accountsOf(ids: string[], span?: string) {
  const pages = []
  for (let i = 0; i === 0 || i < ids.length; i += listed) pages.push(await ask(api.GET('/api/v1/accounts', { params: { query: { span, ids: ids.slice(i, i + listed) } } })))
  return { span: pages[0]?.span, accounts: pages.flatMap((p) => p.accounts) }
}

export const useAccounts = (ids: string[], span?: string, enabled = true) =>
  useQuery({ queryKey: ['standing', 'accounts', span, ids], enabled, queryFn: () => accountsOf(ids, span), placeholderData: keepPreviousData, refetchInterval: 60_000 })

export const useServices = (enabled = true) => useQuery({ queryKey: ['services'], queryFn: () => ask(api.GET('/api/v1/services')).then((l) => l.items), enabled })

export const useChecks = (enabled = true) => useQuery({ queryKey: ['checks'], queryFn: () => ask(api.GET('/api/v1/checks')).then((l) => l.items), enabled })

/** How some checks are now and what was measured last, asked for a hundred at a time. */
export const useChecksNow = (ids: string[]) =>
  useQuery({
    queryKey: ['checks', 'now', ids],
    queryFn: async () => {
      const pages = []
      for (let i = 0; i < ids.length; i += listed) pages.push(await ask(api.GET('/api/v1/checks/now', { params: { query: { ids: ids.slice(i, i + listed) } } })))
      return new Map(pages.flatMap((p) => p.items).map((c) => [c.check, c]))
    },
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  })

/** The checks that are not up. */
export const useNotUp = () => useQuery({ queryKey: ['checks', 'states'], queryFn: () => ask(api.GET('/api/v1/checks/states')).then((l) => new Map(l.items.map((c) => [c.check, c.state]))), refetchInterval: 30_000 })

/** The kinds of check and their measures; they come with the server and do not change. */
export const useKinds = () => useQuery({ queryKey: ['kinds'], queryFn: () => ask(api.GET('/api/v1/kinds')).then((l) => l.items), staleTime: Infinity })

export const useNetworks = () => useQuery({ queryKey: ['networks'], queryFn: () => ask(api.GET('/api/v1/networks')).then((l) => l.items) })

export const usePairPlans = () => useQuery({ queryKey: ['pair-plans'], queryFn: () => ask(api.GET('/api/v1/pair-plans')).then((l) => l.items) })

export const useCredentials = () => useQuery({ queryKey: ['credentials'], queryFn: () => ask(api.GET('/api/v1/credentials')).then((l) => l.items) })

export const useStates = () => useQuery({ queryKey: ['states'], queryFn: () => ask(api.GET('/api/v1/states')).then((l) => l.items) })

/** The states of some services over a band, asked for a hundred at a time. */
export const useStrips = (ids: string[], span?: string) =>
  useQuery({
    queryKey: ['strips', span, ids],
    queryFn: async () => {
      const pages = []
      for (let i = 0; i === 0 || i < ids.length; i += listed) pages.push(await ask(api.GET('/api/v1/services/strips', { params: { query: { span, ids: ids.slice(i, i + listed) } } })))
      return { span: pages[0]?.span, strips: Object.assign({}, ...pages.map((p) => p.strips)) as (typeof pages)[number]['strips'] }
    },
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  })

export const useServiceSpan = (id: string, span?: string) =>
  useQuery({
    queryKey: ['service', id, span],
    queryFn: () => ask(api.GET('/api/v1/services/{id}/span', { params: { path: { id }, query: { span } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  })

export const useMoment = (id: string, at?: string) =>
  useQuery({
    queryKey: ['moment', id, at],
    queryFn: () => ask(api.GET('/api/v1/services/{id}/moment', { params: { path: { id }, query: { at: at ?? '' } } })),
    enabled: Boolean(at),
    placeholderData: keepPreviousData,
  })

/** The account of one agreement in a band, interval by interval. */
export const useAccount = (id: string, span?: string) =>
  useQuery({
    queryKey: ['standing', 'account', id, span],
    queryFn: () => ask(api.GET('/api/v1/agreements/{id}/account', { params: { path: { id }, query: { span } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  })

export const useAgreements = (enabled = true) => useQuery({ queryKey: ['agreements'], queryFn: () => ask(api.GET('/api/v1/agreements')).then((l) => l.items), enabled })

export const usePeriods = (id: string | undefined, last: number) =>
  useQuery({
    queryKey: ['periods', id, last],
    queryFn: () => ask(api.GET('/api/v1/agreements/{id}/periods', { params: { path: { id: id ?? '' }, query: { last } } })),
    enabled: Boolean(id),
  })

/** The periods of an agreement by name, the next one first, then the present and those before. */
export const usePeriodNames = (id: string | undefined) =>
  useQuery({
    queryKey: ['period-names', id],
    queryFn: () => ask(api.GET('/api/v1/agreements/{id}/calendar', { params: { path: { id: id ?? '' } } })).then((l) => l.items),
    enabled: Boolean(id),
  })

/** The last periods under clauses that nobody has agreed to yet. */
export const useWhatIf = (spec: Schemas['AgreementSpec'] | undefined, last: number) =>
  useQuery({
    queryKey: ['what-if', spec, last],
    queryFn: () => ask(api.POST('/api/v1/what-if', { body: { spec: spec as Schemas['AgreementSpec'], last } })),
    enabled: Boolean(spec),
    placeholderData: keepPreviousData,
    retry: false,
  })

/** The sentences that a contract would have for clauses. */
export const useClauses = (spec: Schemas['AgreementSpec'] | undefined) =>
  useQuery({
    queryKey: ['clauses', spec],
    queryFn: () => ask(api.POST('/api/v1/clauses', { body: spec as Schemas['AgreementSpec'] })),
    enabled: Boolean(spec),
    placeholderData: keepPreviousData,
    retry: false,
  })

export const useReports = () => useQuery({ queryKey: ['reports'], queryFn: () => ask(api.GET('/api/v1/reports')).then((l) => l.items) })

export const useReport = (id: string) => useQuery({ queryKey: ['report', id], queryFn: () => ask(api.GET('/api/v1/reports/{id}', { params: { path: { id } } })) })

export const useLocations = (enabled = true) => useQuery({ queryKey: ['locations'], queryFn: () => ask(api.GET('/api/v1/locations')).then((l) => l.items), enabled })

export const useAgents = () => useQuery({ queryKey: ['agents'], queryFn: () => ask(api.GET('/api/v1/agents')).then((l) => l.items), refetchInterval: 15_000 })

export const usePeople = () => useQuery({ queryKey: ['people'], queryFn: () => ask(api.GET('/api/v1/people')).then((l) => l.items) })

export const useStandIns = () => useQuery({ queryKey: ['stand-ins'], queryFn: () => ask(api.GET('/api/v1/stand-ins')).then((l) => l.items) })

export const useStandInMessages = () => useQuery({ queryKey: ['stand-in-messages'], queryFn: () => ask(api.GET('/api/v1/stand-ins/messages')).then((l) => l.items), refetchInterval: 3000 })

/** The revisions of a definition, newest first; `came`: the number of one that came meanwhile, false where none did and none are needed. */
export const useRevisions = (path: string | undefined, id: string | undefined, came?: number | false) =>
  useQuery({
    queryKey: ['revisions', path, id, came],
    queryFn: () => ask(api.GET(`/api/v1/${path}/{id}/revisions` as '/api/v1/services/{id}/revisions', { params: { path: { id: id ?? '' } } })).then((l) => l.items),
    enabled: Boolean(path && id) && came !== false,
  })
