import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, ask, type Schemas } from '../api/client'

export type Node = Schemas['GraphNode']

export const useDependencies = (query: { at?: string; of?: string; way?: 'both' | 'needs' | 'needed' }) =>
  useQuery({
    queryKey: ['states', 'dependencies', query],
    queryFn: () => ask(api.GET('/api/v1/dependencies', { params: { query } })),
    placeholderData: keepPreviousData,
    refetchInterval: query.at ? false : 30_000,
    retry: false,
  })

export const useModelled = (id: string) => useQuery({ queryKey: ['services', 'modelled', id], queryFn: () => ask(api.GET('/api/v1/services/{id}/modelled', { params: { path: { id } } })), enabled: id !== '' })
