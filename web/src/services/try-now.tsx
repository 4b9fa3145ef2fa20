import Button from '@mui/material/Button'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useKinds } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { FindingsView } from './findings'
import { inOrder } from './measures'
import { useTrials } from './queries'
import './trial.css'

/** One measurement of a check from each of its locations, at once. */
export function TryNow({ spec, places }: { spec: () => Schemas['CheckSpec']; places: Schemas['DefinedLocationSpec'][] }) {
  const [ids, setIds] = useState<string[]>([])
  const [kind, setKind] = useState('')
  const kinds = useKinds()
  const start = useChange({
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
