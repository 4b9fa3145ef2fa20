import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, ask } from '../api/client'
import { useMay, useStandIns } from '../api/queries'
import { Trouble } from '../parts/trouble'

const words: Record<string, string> = {
  ok: 'answers',
  slow: 'answers slowly',
  wrong: 'answers wrongly',
  silent: 'does not answer',
  refused: 'refuses connections',
  detour: 'takes a detour',
  lossy: 'loses packets',
  'silent hop': 'one hop is silent',
  prohibited: 'is prohibited at its last router',
  jittery: 'holds packets back',
}

/** The demo's simulated outside world, to be broken and mended. */
export function StandIns() {
  const all = useStandIns()
  const client = useQueryClient()
  const steer = useMutation({
    mutationFn: ({ id, mode }: { id: string; mode: string }) => ask(api.PUT('/api/v1/stand-ins/{id}', { params: { path: { id } }, body: { mode } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['stand-ins'] }),
  })
  const may = useMay()('operate')
  return (
    <>
      <div className="head">
        <h1 style={{ margin: 0 }}>Stand-ins</h1>
      </div>
      <p className="lead" style={{ maxWidth: 620 }}>
        The demo measures these small simulated services and hosts for real. Make one misbehave, and watch Standing: an outage is believed after two failed measurements, which takes up to a minute here.
      </p>
      <Trouble error={all.error ?? steer.error} />
      <table className="plain" style={{ maxWidth: 1060 }}>
        <thead>
          <tr>
            <th>Name</th>
            <th>Address</th>
            <th>What it does</th>
          </tr>
        </thead>
        <tbody>
          {all.data?.map((s) => (
            <tr key={s.id} data-stand-in={s.id}>
              <td style={{ fontWeight: 600, whiteSpace: 'nowrap' }}>{s.name}</td>
              <td className="sub">{s.where}</td>
              <td>
                {s.modes.map((m) => (
                  <label key={m} style={{ marginRight: 13, whiteSpace: 'nowrap', fontWeight: m === s.mode ? 600 : 400 }}>
                    <input type="radio" name={s.id} value={m} checked={m === s.mode} disabled={!may || steer.isPending} onChange={() => steer.mutate({ id: s.id, mode: m })} /> {words[m] ?? m}
                  </label>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}
