import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { Schemas } from './client'

type Event = Schemas['Event']

/** Which queries each kind of event concerns. The figures of Standing follow states, and otherwise its own clock. */
const concerns: Record<Exclude<Event['kind'], 'all'>, string[]> = {
  measurement: ['service', 'moment'],
  state: ['standing', 'service', 'moment', 'strips', 'states'],
  definition: ['closes', 'close', 'standing', 'services', 'service', 'checks', 'agreements', 'locations', 'strips', 'networks', 'pair-plans', 'credentials', 'secrets', 'kits', 'parties', 'holiday-lists', 'revisions', 'me', 'periods', 'period-names', 'effects', 'clauses', 'notice-plans', 'pools', 'contact-methods', 'relays', 'duty', 'notice-gaps', 'rehearsal', 'holds', 'selections', 'layouts', 'standing-approvals'],
  agent: ['agents', 'standing'],
  release: ['agents'],
  roster: ['agents'],
  report: ['reports', 'report', 'standing', 'period-names', 'closes', 'close', 'credits'],
  credit: ['credits'],
  incident: ['closes', 'close', 'incidents', 'incident', 'standing', 'deliveries', 'inbox'],
  trial: [],
  'trial-done': ['trials', 'incident'],
}

/** Queries of one service: their keys have its id second, and a change that names services concerns theirs alone. */
const ofOneService = ['service', 'moment']

const gather = 400 // ms: changes that come together are asked for once
const silentAfter = 25_000 // ms: the server says something every 10 s

/** Keeps what is shown up to date with the server; says when the last word came and whether the line is up. */
export function useLive(): { connected: boolean; heard: number } {
  const client = useQueryClient()
  const [connected, setConnected] = useState(false)
  const [heard, setHeard] = useState(() => Date.now())

  useEffect(() => {
    const stream = new EventSource('/api/v1/live')
    let last = Date.now()
    const due = new Map<string, string[]>() // query keys by their text
    let timer: number | undefined
    /** What changed while its answer was on its way is asked for again once it has come: asking at once would end that answer, and
     * where things change faster than answers come none ever would. */
    const waiting = new Set<string>() // query hashes
    const flush = () => {
      timer = undefined
      const cache = client.getQueryCache()
      for (const queryKey of due.values()) for (const q of cache.findAll({ queryKey })) waiting.add(q.queryHash)
      due.clear()
      for (const hash of waiting) {
        const query = cache.get(hash)
        if (query?.state.fetchStatus === 'fetching') continue
        waiting.delete(hash)
        if (query) void client.invalidateQueries({ queryKey: query.queryKey, exact: true })
      }
      if (waiting.size) timer = window.setTimeout(flush, gather)
    }
    const note = (key: string[]) => due.set(key.join(' '), key)
    const alive = () => {
      last = Date.now()
      setHeard(last)
      setConnected(true)
    }
    stream.addEventListener('open', () => {
      alive()
      void client.invalidateQueries()
    })
    stream.addEventListener('alive', alive)
    stream.addEventListener('change', (event: MessageEvent<string>) => {
      alive()
      const { kind, ids } = JSON.parse(event.data) as Event
      // Of what is not known here everything may have changed.
      const keys = kind === 'all' ? undefined : (concerns[kind] as string[] | undefined)
      if (!keys) void client.invalidateQueries()
      for (const key of keys ?? []) {
        if (ids?.length && ofOneService.includes(key) && (kind === 'state' || kind === 'measurement')) ids.forEach((id) => note([key, id]))
        else note([key])
      }
      timer ??= window.setTimeout(flush, gather)
    })
    stream.addEventListener('error', () => setConnected(false))
    const watch = window.setInterval(() => setConnected(Date.now() - last < silentAfter && stream.readyState === EventSource.OPEN), 2000)
    return () => {
      stream.close()
      window.clearTimeout(timer)
      window.clearInterval(watch)
    }
  }, [client])
  return { connected, heard }
}
