import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, ask, type Schemas } from '../api/client'
import { useLocations, useMayDefine, useServices } from '../api/queries'
import { Export } from '../parts/export'
import { Trouble } from '../parts/trouble'
import { bytes, load } from '../services/plan'
import { duration } from '../time/format'
import { SetupHead } from './head'

type Plan = Schemas['PairPlan']
const kinds = { path: 'path', ping: 'ping', udp: 'UDP echo' } as const
const shapes = { full: 'every location with every other', regions: 'one link between regions, all pairs inside each', picked: 'the pairs that I pick' } as const

/** A plan of checks between locations, counted before it is made. */
export function Pairs() {
  const places = useLocations()
  const services = useServices()
  const may = useMayDefine()
  const client = useQueryClient()
  const [plan, setPlan] = useState<Plan>({ service: '', kinds: ['path'], shape: 'full', interval_s: 300, both_ways: false })
  const [chosen, setChosen] = useState<string[] | undefined>()
  const live = (places.data ?? []).filter((l) => !l.retired)
  const reachable = live.filter((l) => l.spec.address)
  const locations = chosen ?? reachable.map((l) => l.id)
  const pairs = plan.pairs ?? []
  const asked: Plan = { ...plan, locations, pairs: plan.shape === 'picked' ? pairs : undefined }
  const ready = may && plan.service !== '' && plan.kinds.length > 0 && (plan.shape === 'picked' ? pairs.length > 0 : locations.length > 1)
  const preview = useQuery({ queryKey: ['pairs', asked], queryFn: () => ask(api.POST('/api/v1/pairs/preview', { body: asked })), enabled: ready, placeholderData: keepPreviousData, retry: false })
  const create = useMutation({ mutationFn: () => ask(api.POST('/api/v1/pairs', { body: asked })), onSuccess: () => client.invalidateQueries() })
  const change = (part: Partial<Plan>) => {
    create.reset()
    setPlan({ ...plan, ...part })
  }
  const name = (id: string) => live.find((l) => l.id === id)?.spec.name ?? id
  const checks = ready ? (preview.data?.checks ?? []) : []
  const fresh = checks.filter((c) => !c.have)
  const traffic = checks.reduce((sum, c) => sum + load(c.spec, 1).traffic, 0)
  if (!places.data || !services.data) return <Trouble error={places.error ?? services.error} />
  return (
    <>
      <SetupHead title="Pairs">
        {checks.length > 0 && <Export name="pairs" columns={['from', 'to', 'target', 'kind', 'every_s', 'check']} rows={checks.map((c) => [name(c.spec.locations[0] ?? ''), name(c.pair.a === c.spec.locations[0] ? c.pair.b : c.pair.a), c.spec.target, c.spec.kind, c.spec.interval_s, c.have])} />}
      </SetupHead>
      <p className="sub" style={{ maxWidth: 640 }}>
        Checks between locations: how they reach each other. The plan makes ordinary checks of a service; each can be changed, tried or retired by itself, and making the plan again adds only what is missing.
      </p>
      {reachable.length < 2 && <p className="trouble">At least two locations need an address. Say under Locations, Edit, where others find each.</p>}
      <div className="form">
        <fieldset disabled={!may}>
          <legend>What</legend>
          <TextField select label="Of which service" value={plan.service} onChange={(e) => change({ service: e.target.value })}>
            {services.data
              .filter((s) => !s.retired)
              .map((s) => (
                <MenuItem key={s.id} value={s.id}>
                  {s.spec.name}
                </MenuItem>
              ))}
          </TextField>
          <div>
            {Object.entries(kinds).map(([k, text]) => (
              <FormControlLabel
                key={k}
                label={text}
                control={<Checkbox size="small" checked={plan.kinds.includes(k as keyof typeof kinds)} onChange={(_, on) => change({ kinds: on ? [...plan.kinds, k as keyof typeof kinds] : plan.kinds.filter((x) => x !== k) })} />}
              />
            ))}
            <FormControlLabel label="from both ends" control={<Checkbox size="small" checked={plan.both_ways ?? false} onChange={(_, on) => change({ both_ways: on })} />} />
          </div>
          <TextField select label="Every" sx={{ maxWidth: 220 }} value={plan.interval_s} onChange={(e) => change({ interval_s: Number(e.target.value) })}>
            {[30, 60, 120, 300, 600, 1800, 3600].map((s) => (
              <MenuItem key={s} value={s}>
                {duration(s * 1000)}
              </MenuItem>
            ))}
          </TextField>
        </fieldset>
        <fieldset disabled={!may}>
          <legend>Between which</legend>
          <TextField select label="Pairs" value={plan.shape} onChange={(e) => change({ shape: e.target.value as Plan['shape'] })}>
            {Object.entries(shapes).map(([s, text]) => (
              <MenuItem key={s} value={s}>
                {text}
              </MenuItem>
            ))}
          </TextField>
          {plan.shape === 'picked' ? (
            <Picked places={reachable} pairs={pairs} change={(p) => change({ pairs: p })} />
          ) : (
            <div>
              {live.map((l) => (
                <FormControlLabel
                  key={l.id}
                  label={`${l.spec.name}${l.spec.region ? `, ${l.spec.region}` : ''}${l.spec.address ? '' : ' (no address)'}`}
                  disabled={!l.spec.address}
                  control={<Checkbox size="small" checked={locations.includes(l.id)} onChange={(_, on) => setChosen(on ? [...locations, l.id] : locations.filter((x) => x !== l.id))} />}
                />
              ))}
            </div>
          )}
          <Trouble error={ready ? preview.error : undefined} />
          {ready && preview.data && !preview.error && (
            <div className="consequence sub" data-count={preview.data.pairs}>
              {preview.data.pairs} {preview.data.pairs === 1 ? 'pair' : 'pairs'}, {checks.length} checks, {fresh.length} of them new. {preview.data.runs_per_day.toLocaleString('en')} runs a day, about {bytes(traffic)} a day.
            </div>
          )}
        </fieldset>
        <Trouble error={create.error} />
        {may && (
          <div>
            <Button variant="contained" disabled={!ready || fresh.length === 0 || create.isPending || Boolean(preview.error)} onClick={() => create.mutate()}>
              {fresh.length === 0 ? 'Nothing new to measure' : `Measure ${fresh.length} more`}
            </Button>
            {create.data && <span className="sub"> {create.data.items.length} checks were made.</span>}
          </div>
        )}
      </div>
      {checks.length > 0 && (
        <table className="plain" style={{ maxWidth: 900, marginTop: 24 }}>
          <thead>
            <tr>
              <th>From</th>
              <th>To</th>
              <th>Kind</th>
              <th aria-hidden />
            </tr>
          </thead>
          <tbody>
            {checks.map((c) => (
              <tr key={`${c.spec.locations[0]} ${c.spec.target} ${c.spec.kind}`}>
                <td>{name(c.spec.locations[0] ?? '')}</td>
                <td>
                  {name(c.pair.a === c.spec.locations[0] ? c.pair.b : c.pair.a)} <span className="sub">{c.spec.target}</span>
                </td>
                <td>{kinds[c.spec.kind as keyof typeof kinds]}</td>
                <td className="sub">{c.have ? 'measured already' : 'new'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}

function Picked({ places, pairs, change }: { places: Schemas['DefinedLocationSpec'][]; pairs: Schemas['PairOf'][]; change: (p: Schemas['PairOf'][]) => void }) {
  return (
    <div>
      {places.flatMap((a, i) =>
        places.slice(i + 1).map((b) => {
          const on = pairs.some((p) => p.a === a.id && p.b === b.id)
          return (
            <FormControlLabel
              key={`${a.id} ${b.id}`}
              label={`${a.spec.name} – ${b.spec.name}`}
              control={<Checkbox size="small" checked={on} onChange={() => change(on ? pairs.filter((p) => p.a !== a.id || p.b !== b.id) : [...pairs, { a: a.id, b: b.id }])} />}
            />
          )
        }),
      )}
    </div>
  )
}
