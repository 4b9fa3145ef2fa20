import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Controller } from 'react-hook-form'
import { Link, useNavigate } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useLocations } from '../api/queries'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { PartyPick } from '../parts/party'
import { Trouble } from '../parts/trouble'
import { duration } from '../time/format'
import { leading, type Kind } from './kinds'
import { OwnHost } from './own-host'
import { decimal, validTarget } from '../parts/decimal'
import { useTaking } from './schedule'
import { useKey } from '../parts/key'
import { useTrials } from './queries'
import { stateOf } from './try-now'

type Candidate = Schemas['Candidate']
type Values = { name: string; kind: 'business' | 'supporting' | 'supplier'; owner: string; address: string; interval: number; target: string; customer: string; promised: boolean; chosen: string[] | undefined }

const fresh: Values = { name: '', kind: 'business', owner: '', address: '', interval: 60, target: '99.9', customer: '', promised: false, chosen: undefined }

/** From an address to a measured service with a promise, on one page. */
export function NewService() {
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: 'services/new' })
  const places = useLocations()
  const navigate = useNavigate()
  const [candidates, setCandidates] = useState<Candidate[] | undefined>()
  const [wanted, setWanted] = useState<Record<string, boolean>>({})
  const live = (places.data ?? []).filter((l) => !l.retired)
  const locations = form.watch('chosen') ?? live.map((l) => l.id)
  const interval = Number(form.watch('interval'))

  const propose = useChange({
    mutationFn: (address: string) => ask(api.POST('/api/v1/proposals', { body: { address, locations } })).then((l) => l.items),
    onSuccess: setCandidates,
    onError: (e) => e instanceof Problem && e.fields.address && form.setError('address', { message: e.fields.address }),
  })
  const ids = candidates?.flatMap((c) => c.trials.map((t) => t.id)) ?? []
  const trials = useTrials(ids)
  const results = (c: Candidate) => c.trials.map((t) => trials.data?.find((r) => r.id === t.id))
  const settled = (c: Candidate) => results(c).every((r) => r?.state === 'done' || r?.state === 'lost')
  const answers = (c: Candidate) => results(c).some((r) => r?.outcome === 'ok' || r?.outcome === 'degraded')
  const takes = (c: Candidate) => wanted[c.target] ?? answers(c)
  const picked = candidates?.filter(takes) ?? []
  const taken = (c: Candidate) => ({ kind: c.kind, name: c.name, target: c.target, tried: results(c).flatMap((r) => (r?.measures ? [r.measures] : [])) })
  // All are asked about, for each says which limit suits it; what they cost together counts those that are taken.
  const would = useTaking(candidates && { taken: candidates.map(taken), interval_s: interval, locations, target_percent: decimal(form.watch('target')) })
  const of = (c: Candidate) => candidates?.indexOf(c) ?? -1
  const first = useTaking(picked.length ? { taken: picked.map(taken), interval_s: interval, locations } : undefined)
  const decides = first.data?.checks.findIndex((c) => c.spec.role === 'decides') ?? -1

  const key = useKey()
  const save = useChange({
    // One change: the service with its checks and its agreement, or nothing of it.
    mutationFn: (v: Values) => {
      const body = {
        name: v.name,
        kind: v.kind,
        owner: v.owner || undefined,
        taken: picked.map(taken),
        interval_s: interval,
        locations,
        promised: v.promised ? { target_percent: decimal(v.target), customer: v.customer || undefined } : undefined,
      }
      return ask(api.POST('/api/v1/proposals/take', { body: { ...body, key: key(body) } }))
    },
    again: 'all',
    kept,
    onSuccess: ({ ids }) => navigate(`/services/${ids[0]}`),
    onError: (e) => {
      if (!(e instanceof Problem)) return
      for (const name of ['name', 'owner'] as const) if (e.fields[name]) form.setError(name, { message: e.fields[name] })
      if (e.fields['promised.customer']) form.setError('customer', { message: e.fields['promised.customer'] })
      if (e.fields['promised.target_percent']) form.setError('target', { message: e.fields['promised.target_percent'] })
    },
  })

  if (places.data && live.length === 0) {
    return (
      <div className="empty">
        <Typography variant="h1">First, a place to measure from</Typography>
        <p>
          A service is measured from locations, and there is none yet. <Link to="/set-up">Add a location</Link>; one command starts an agent there. Then come back.
        </p>
      </div>
    )
  }
  const err = form.formState.errors
  return (
    <Box component="form" className="form" sx={{ paddingTop: '26px' }} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <Typography variant="h1">Describe a service</Typography>
      <KeptNote kept={kept} />
      <fieldset>
        <legend>What is it, and where does it answer?</legend>
        <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name', { required: 'Give it a name' })} />
        <div className="side">
          <TextField select label="Kind" defaultValue="business" {...form.register('kind')}>
            <MenuItem value="business">business</MenuItem>
            <MenuItem value="supporting">supporting</MenuItem>
            <MenuItem value="supplier">supplier</MenuItem>
          </TextField>
          <Controller control={form.control} name="owner" render={({ field }) => <PartyPick kind="team" label="Owned by" value={field.value} change={field.onChange} error={err.owner?.message} />} />
        </div>
        <TextField
          label="Address"
          required
          placeholder="https://tickets.skerry.example or 127.0.0.1"
          error={Boolean(err.address)}
          helperText={err.address?.message ?? 'A web address, a host name or an IP address'}
          {...form.register('address', { required: 'Paste its address' })}
        />
      </fieldset>
      <fieldset>
        <legend>Measured from where?</legend>
        <div>
          {live.map((l) => (
            <FormControlLabel
              key={l.id}
              label={l.spec.name}
              control={<Checkbox size="small" checked={locations.includes(l.id)} onChange={(_, on) => form.setValue('chosen', on ? [...locations, l.id] : locations.filter((x) => x !== l.id))} />}
            />
          ))}
        </div>
        <OwnHost target={form.watch('address')} places={live.filter((l) => locations.includes(l.id))} />
        {locations.length === 0 && <p className="trouble">A check needs at least one location to measure from.</p>}
        <div>
          <Button
            variant={candidates ? 'outlined' : 'contained'}
            disabled={propose.isPending || locations.length === 0}
            onClick={() => void form.trigger(['name', 'address']).then((ok) => ok && propose.mutate(form.getValues('address')))}
>
            {candidates ? 'Try again' : 'See what answers'}
          </Button>
        </div>
        <Trouble error={propose.error} />
      </fieldset>
      {candidates && (
        <fieldset>
          <legend>What answers there</legend>
          {candidates.map((c) => (
            <div key={c.target} data-candidate={c.kind}>
              <FormControlLabel
                label={
                  <>
                    <b>{c.name}</b> <span className="sub">{c.target}</span>
                  </>
                }
                control={<Checkbox size="small" checked={takes(c)} disabled={!settled(c)} onChange={(_, on) => setWanted({ ...wanted, [c.target]: on })} />}
              />
              {c.trials.map((t) => (
                <TrialLine key={t.id} place={live.find((l) => l.id === t.location)?.spec.name ?? t.location} result={trials.data?.find((r) => r.id === t.id)} kind={c.kind} />
              ))}
              {would.data?.checks[of(c)]?.suggested && (
                <Box className="sub" sx={{ paddingLeft: '30px' }}>
                  suggested limit: {would.data.checks[of(c)]?.suggested}
                </Box>
              )}
            </div>
          ))}
          {candidates.every(settled) && !candidates.some(answers) && <p className="trouble">Nothing answers there from any of the locations. Check the address, or choose what to measure anyway: it will be down until it answers.</p>}
          <TextField select label="Measure every" sx={{ maxWidth: 220 }} defaultValue={60} {...form.register('interval')}>
            {[5, 10, 20, 30, 60, 120, 300].map((s) => (
              <MenuItem key={s} value={s}>
                {duration(s * 1000)}
              </MenuItem>
            ))}
          </TextField>
          <div className="consequence sub">
            {picked.map((c) => (
              <div key={c.target}>
                {c.name}: {would.data?.schedules[of(c)]?.cost}
              </div>
            ))}
            {first.data?.schedules[decides]?.detection}
          </div>
        </fieldset>
      )}
      {candidates && (
        <fieldset>
          <legend>What was promised?</legend>
          <FormControlLabel label="An availability was promised, or is aimed at" control={<Checkbox size="small" checked={form.watch('promised')} onChange={(_, on) => form.setValue('promised', on)} />} />
          {form.watch('promised') && (
            <>
              <div className="side">
                <TextField label="Target" error={Boolean(err.target)} helperText={err.target?.message} slotProps={{ input: { endAdornment: '%' } }} {...form.register('target', { validate: validTarget })} />
                <Controller control={form.control} name="customer" render={({ field }) => <PartyPick kind="customer" label="To whom" blank="internal" value={field.value} change={field.onChange} error={err.customer?.message} />} />
              </div>
              <div className="consequence sub">{would.data?.resolution}</div>
            </>
          )}
        </fieldset>
      )}
      <Trouble error={save.error} />
      {candidates && (
        <div>
          <Button type="submit" variant="contained" disabled={save.isPending || picked.length === 0}>
            Start measuring
          </Button>
          {picked.length === 0 && <span className="sub"> Choose at least one check.</span>}
        </div>
      )}
    </Box>
  )
}

function TrialLine({ place, result, kind }: { place: string; result: Schemas['TrialView'] | undefined; kind: Kind }) {
  const m = result?.measures
  const value = leading(kind, m)
  return (
    <Box className="sub" sx={{ paddingLeft: '30px' }}>
      {place}:{' '}
      {result?.state === 'done' ? (
        <>
          <span className={`word-${stateOf(result.outcome)}`}>{result.outcome}</span>
          {value && `, ${value}`}
          {m?.status !== undefined && `, status ${m.status}`}
          {result.detail && `, ${result.detail}`}
        </>
      ) : result?.state === 'lost' ? (
        'no agent took it; is the agent there running?'
      ) : (
        'trying …'
      )}
    </Box>
  )
}
