import type { Schemas } from '../api/client'

/** Says when a location measures its own host: both fail together, and nobody sees it. */
export function OwnHost({ of }: { of: Schemas['DefinedLocationSpec'][] }) {
  if (of.length === 0) return null
  return (
    <p className="sub" data-own-host>
      {of.map((l) => l.spec.name).join(', ')} {of.length === 1 ? 'measures its own host' : 'measure their own host'} here: when that host fails, nothing is measured from there. Choose another location as well.
    </p>
  )
}
