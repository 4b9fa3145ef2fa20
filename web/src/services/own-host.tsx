import type { Schemas } from '../api/client'

/** The locations whose own host is the target. */
function ownHost(target: string, places: Schemas['DefinedLocationSpec'][]): Schemas['DefinedLocationSpec'][] {
  const host = target.replace(/^\w+:\/\//, '').replace(/[:/].*$/, '')
  return places.filter((l) => l.spec.address && l.spec.address === host)
}

/** Says when a location measures its own host: both fail together, and nobody sees it. */
export function OwnHost({ target, places }: { target: string; places: Schemas['DefinedLocationSpec'][] }) {
  const of = ownHost(target, places)
  if (of.length === 0) return null
  return (
    <p className="sub" data-own-host>
      {of.map((l) => l.spec.name).join(', ')} {of.length === 1 ? 'measures its own host' : 'measure their own host'} here: when that host fails, nothing is measured from there. Choose another location as well.
    </p>
  )
}
