import Button from '@mui/material/Button'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ask, type Schemas } from '../api/client'
import { useKinds } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { FindingsView } from './findings'
import { inOrder } from './measures'

/** The results of trials, asked for until all are in. */
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

/** One measurement of a check from each of its locations, at once. */
export function TryNow({ spec, places }: { spec: () => Schemas['CheckSpec']; places: Schemas['DefinedLocationSpec'][] }) {
  const [ids, setIds] = useState<string[]>([])
  const [kind, setKind] = useState('')
  const kinds = useKinds()
  const start = useMutation({
    mutationFn: () => {
      setKind(spec().kind)
      return ask(api.POST('/api/v1/trials', { body: spec() })).then((l) => l.items)
    },
    onSuccess: (list) => setIds(list.map((t) => t.id)),
  })
  const trials = useTrials(ids)
  const of = kinds.data?.find((k) => k.name === kind)
  return (
    <div>
      <Button onClick={() => start.mutate()} disabled={start.isPending}>
        Try it now
      </Button>{' '}
      <span className="sub">One measurement from each location; it enters no account.</span>
      <Trouble error={start.error} />
      {trials.data?.map((t) => (
        <section key={t.id} className="trial">
          <b>{places.find((l) => l.id === t.location)?.spec.name ?? t.location}</b>:{' '}
          {t.state === 'done' ? <span className={`word-${stateOf(t.outcome)}`}>{t.outcome}</span> : t.state === 'lost' ? 'no agent took it; is the agent there running?' : 'trying …'}
          {t.detail && <div>{t.detail}</div>}
          <div className="sub">
            {inOrder(of, t.measures, t.findings?.cut)
              .map((m) => `${m.text} ${m.value}${m.unit && ` ${m.unit}`}`)
              .join(' · ')}
          </div>
          <FindingsView findings={t.findings} />
        </section>
      ))}
    </div>
  )
}

/** The state that an outcome is by itself. */
export const stateOf = (outcome: string | undefined) => ({ ok: 'up', degraded: 'degraded', failed: 'down' })[outcome ?? ''] ?? 'unmeasured'
