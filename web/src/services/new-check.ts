import type { Schemas } from '../api/client'
import { defaultFields, has, type DefaultField } from './defaults'
import type { Kind } from './kinds'

type Spec = Schemas['CheckSpec']
type Defaults = Schemas['CheckDefaults']

/** A new check with what the server says that its kind starts with, and with the defaults of its service where it follows them. */
export function newCheck(kinds: Schemas['Kind'][], kind: Kind, service: string, locations: string[], defaults: Defaults | undefined): Spec {
  const of = kinds.find((k) => k.name === kind)
  if (!of) throw new Error(`The server knows no kind ${kind}.`)
  const fields = of.follows as DefaultField[]
  const follows = defaultFields.filter((name) => has(defaults, name) && fields.includes(name))
  const own = { ...of.start, service, locations: of.inward ? of.start.locations : locations }
  return { ...own, ...Object.fromEntries(follows.map((name) => [name, defaults?.[name]])), follows }
}

/** The settings of all kinds that a form begins with, so that nothing typed for one is lost by a look at another. */
export function allSettings(kinds: Schemas['Kind'][]): Partial<Spec> {
  const all = Object.assign({}, ...kinds.map(({ start: { ping, http, certificate, dns, path, udp, report_in, derived } }) => filled({ ping, http, certificate, dns, path, udp, report_in, derived }))) as Partial<Spec>
  return { ...all, http: all.http && { ...all.http, redirects: all.http.redirects ?? 0 } } // a zero is left away on its way here
}

const filled = (o: object) => Object.fromEntries(Object.entries(o).filter(([, v]) => v !== undefined))

/** The spec with the settings of its own kind alone. */
export function ownSettings(spec: Spec): Spec {
  const { ping, http, certificate, dns, path, udp, report_in, derived, ...rest } = spec
  const all = { ping, http, certificate, dns, path, udp, 'report-in': report_in, derived, tcp: undefined }
  const key = spec.kind === 'report-in' ? 'report_in' : spec.kind
  return { ...rest, ...(all[spec.kind] ? { [key]: all[spec.kind] } : {}) }
}
