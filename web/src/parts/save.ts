import type { FieldValues, UseFormReturn } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import type { Kept } from './kept'
import type { Retirable } from './retire'
import { showFaults } from './trouble'

type Options<V extends FieldValues, S> = {
  /** What is saved, by its path. */
  of: Retirable
  /** What is edited; undefined: it is new. */
  entry?: { id: string; revision: number }
  form: UseFormReturn<V>
  kept: Kept<V>
  spec: (v: V) => S
  /** Fields for paths that have another name; see showFaults. */
  names?: Record<string, string>
  /** Saves it in another way; undefined: as the others. */
  by?: (spec: S, reason?: string) => Promise<string> | undefined
  /** Why, where the form asks for it. */
  reason?: (v: V) => string | undefined
  done: (id: string) => unknown
}

/** Saves a definition: as a new one, or as the next revision of what is edited. Faults stand at their fields. */
export function useSaving<V extends FieldValues, S>({ of, entry, form, kept, spec, names, by, reason, done }: Options<V, S>) {
  return useChange({
    mutationFn: async (v: V) => {
      const why = reason?.(v)
      const other = by?.(spec(v), why)
      if (other) return other
      const body = spec(v) as never
      if (!entry) return (await ask(api.POST(`/api/v1/${of}` as '/api/v1/networks', { body: { spec: body, reason: why } }))).id
      await ask(api.PUT(`/api/v1/${of}/{id}` as '/api/v1/networks/{id}', { params: { path: { id: entry.id } }, body: { revision: entry.revision, spec: body, reason: why } }))
      return entry.id
    },
    again: 'all',
    kept,
    onSuccess: done,
    onError: (e) => showFaults(e, form.setError, 'spec.', names),
  })
}
