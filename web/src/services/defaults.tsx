import type { ReactNode } from 'react'
import type { Schemas } from '../api/client'
import type { DraftForm } from './kind-fields'

type Defaults = Schemas['CheckDefaults']
export type DefaultField = keyof Defaults

/** The fields of a check for which its service can have a default, in the order of the form. */
export const defaultFields: DefaultField[] = ['interval_s', 'timeout_ms', 'locations', 'rolling', 'confirm', 'retry_s', 'recover', 'stale_after_s', 'quorum']

/** Fields in the order of the form: lists of the same fields are equal. */
export const inOrder = (fields: string[]): DefaultField[] => defaultFields.filter((f) => fields.includes(f))

/** Whether a service says a default for a field. */
export function has(defaults: Defaults | undefined, name: DefaultField): boolean {
  const v = defaults?.[name]
  return Array.isArray(v) ? v.length > 0 : Boolean(v)
}

const plain = (v: unknown): string => (Array.isArray(v) ? JSON.stringify([...(v as string[])].sort()) : v && typeof v === 'object' ? JSON.stringify(Object.entries(v).sort()) : String(v ?? ''))

/** Whether a check says what the default says. */
const agrees = (spec: Pick<Schemas['CheckSpec'], DefaultField>, defaults: Defaults | undefined, name: DefaultField) => plain(spec[name]) === plain(defaults?.[name])

/** The fields that a check goes on following: those it says nothing else in. */
export const followed = (spec: Pick<Schemas['CheckSpec'], DefaultField | 'follows'>, defaults: Defaults | undefined): DefaultField[] =>
  defaultFields.filter((name) => (spec.follows ?? []).includes(name) && has(defaults, name) && agrees(spec, defaults, name))

/** Where the value of a field comes from, and the way to the other source; nothing where the service says none. */
export function originOf(form: DraftForm, service: Schemas['DefinedServiceSpec']): (name: DefaultField) => ReactNode {
  const defaults = service.spec.check_defaults
  const v = form.watch()
  return (name) => {
    if (!has(defaults, name)) return undefined
    const follows = v.follows ?? []
    if (followed(v, defaults).includes(name)) {
      return (
        <span data-origin="service">
          From {service.spec.name}.{' '}
          <button type="button" className="link" onClick={() => form.setValue('follows', follows.filter((f) => f !== name), { shouldDirty: true })}>
            make it its own
          </button>
        </span>
      )
    }
    const follow = () => {
      form.setValue('follows', inOrder([...follows, name]), { shouldDirty: true })
      form.setValue(name, defaults?.[name] as never, { shouldDirty: true, shouldValidate: true })
      if (name === 'rolling') form.setValue('retry_s', undefined) // it counts no retries
    }
    return (
      <span data-origin="own">
        Its own; {service.spec.name} says {inWords(defaults, name)}.{' '}
        <button type="button" className="link" onClick={follow}>
          follow
        </button>
      </span>
    )
  }
}

function inWords(defaults: Defaults | undefined, name: DefaultField): string {
  const v = defaults?.[name]
  if (name === 'rolling' && defaults?.rolling) return `${defaults.rolling.runs} failed runs within ${defaults.rolling.window_s} s`
  if (Array.isArray(v)) return v.length === 1 ? 'one location' : `${v.length} locations`
  return `${String(v)}${name.endsWith('_s') ? ' s' : name.endsWith('_ms') ? ' ms' : ''}`
}
