import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { Confirm } from './trouble'

/** What can be retired, by its path; all are retired and restored alike. */
export type Retirable = 'services' | 'checks' | 'agreements' | 'locations' | 'pair-plans' | 'kits' | 'networks' | 'credentials' | 'holiday-lists' | 'teams' | 'customers' | 'contracts' | 'relays' | 'contact-methods' | 'pools' | 'notice-plans' | 'windows' | 'embargoes' | 'selections' | 'layouts'

const one = (of: Retirable) => `/api/v1/${of}/{id}` as '/api/v1/services/{id}'

/** Retires and restores definitions of a kind, after which everything is asked for anew. */
export function useRetiring(of: Retirable, after?: (did: 'retired' | 'restored') => unknown) {
  const [asked, setAsked] = useState<string>()
  const turn = useChange({
    mutationFn: async ({ id, retire }: { id: string; retire: boolean }) => {
      const path = { params: { path: { id } } }
      if (retire) await ask(api.DELETE(one(of), path))
      else await ask(api.POST(`${one(of)}/restore` as '/api/v1/services/{id}/restore', path))
      return retire
    },
    again: 'all',
    onSuccess: (retired) => after?.(retired ? 'retired' : 'restored'),
    onSettled: () => setAsked(undefined),
  })
  return {
    error: turn.error,
    busy: turn.isPending,
    retire: (id: string) => turn.mutate({ id, retire: true }),
    restore: (id: string) => turn.mutate({ id, retire: false }),
    /** Asks first; see RetireQuestion. */
    ask: setAsked,
    asked,
    leave: () => setAsked(undefined),
  }
}

/** The question before something is retired: what it is called, and what follows. */
export function RetireQuestion({ of, title, text, act }: { of: ReturnType<typeof useRetiring>; title: string; text: string; act: string }) {
  return <Confirm open={of.asked !== undefined} title={title} text={text} act={act} busy={of.busy} onYes={() => of.asked !== undefined && of.retire(of.asked)} onNo={of.leave} />
}
