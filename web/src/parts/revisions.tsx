import { useQuery } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { api, ask } from '../api/client'
import { fullTime, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { Differences, differences } from './differences'
import { Trouble } from './trouble'

type Path = '/api/v1/services/{id}/revisions'

/** The revisions of a definition, newest first: who, when, why, and what each changed. */
export function Revisions({ path, id, counts }: { path: 'services' | 'checks' | 'agreements'; id: string; counts?: boolean }) {
  const { zone } = useZone()
  const [open, setOpen] = useState<number | undefined>()
  const revisions = useQuery({ queryKey: ['revisions', path, id], queryFn: () => ask(api.GET(`/api/v1/${path}/{id}/revisions` as Path, { params: { path: { id } } })).then((l) => l.items) })
  if (!revisions.data) return <Trouble error={revisions.error} />
  const all = revisions.data
  return (
    <section aria-label="Revisions">
      <h2>Revisions</h2>
      <table className="plain compact">
        <thead>
          <tr>
            <th>No.</th>
            <th>Made</th>
            {counts && <th>Counts from</th>}
            <th>By</th>
            <th>Why</th>
            <th>What changed</th>
          </tr>
        </thead>
        <tbody>
          {all.map((r, i) => {
            const before = all[i + 1]
            const more = before ? differences(before.spec, r.spec) : []
            const shown = open === r.number
            return (
              <Fragment key={r.number}>
                <tr data-revision={r.number}>
                  <td>{r.number}</td>
                  <td title={`${fullTime(r.from, zone)} (${zone})`}>{shortTime(r.from, zone)}</td>
                  {counts && <td>{r.counts_from ? shortTime(r.counts_from, zone) : 'its beginning'}</td>}
                  <td>{r.by}</td>
                  <td>{r.reason || '–'}</td>
                  <td>
                    {!before && 'all of it'}
                    {before && more.length === 0 && 'nothing'}
                    {more.length > 0 && (
                      <button type="button" className="link" aria-expanded={shown} onClick={() => setOpen(shown ? undefined : r.number)}>
                        {more.length === 1 ? more[0]?.field : `${more.length} fields`}
                      </button>
                    )}
                  </td>
                </tr>
                {shown && (
                  <tr>
                    <td />
                    <td colSpan={counts ? 5 : 4}>
                      <Differences list={more} />
                    </td>
                  </tr>
                )}
              </Fragment>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}
