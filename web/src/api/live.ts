import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

/** Which queries a kind of change concerns. */
const concerns: Record<string, string[]> = {
  measurement: ['standing', 'service', 'moment', 'strips'],
  state: ['standing', 'service', 'strips', 'states'],
  definition: ['standing', 'services', 'service', 'checks', 'agreements', 'locations', 'strips', 'windows'],
  agent: ['agents', 'standing'],
  report: ['reports', 'report', 'standing'],
  'trial-done': ['trials'],
}

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
    const due = new Set<string>()
    let timer: number | undefined
    const flush = () => {
      timer = undefined
      for (const key of due) void client.invalidateQueries({ queryKey: [key] })
      due.clear()
    }
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
      const { kind } = JSON.parse(event.data) as { kind: string }
      const keys = concerns[kind]
      if (keys) keys.forEach((k) => due.add(k))
      else void client.invalidateQueries()
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
