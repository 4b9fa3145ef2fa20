import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useLocations, useMayDefine, useServices } from '../api/queries'
import { counted } from '../parts/counted'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { useRetiring } from '../parts/retire'
import { Awaited, Trouble } from '../parts/trouble'
import { kinds } from '../services/kinds'
import { useKeep } from '../time/span'
import { SetupHead } from './head'
import { useKitOf, useKits } from './queries'

type Kit = Schemas['DefinedKitSpec']

/** Sets of checks that are used again and again, with what differs as parameters. */
export function Kits() {
  const kits = useKits()
  const may = useMayDefine()
  const [making, setMaking] = useState(false)
  const [using, setUsing] = useState<string | undefined>()
  const retiring = useRetiring('kits')
  if (!kits.data) return <Awaited error={kits.error} />
  return (
    <>
      <SetupHead title="Kits">
        {may && (
          <Button variant={kits.data.length ? 'outlined' : 'contained'} onClick={() => setMaking(true)}>
            Make a kit of a service’s checks
          </Button>
        )}
      </SetupHead>
      <Box component="p" className="sub" sx={{ maxWidth: '640px' }}>
        A kit is a set of checks to be used for one service after the other. What differs, such as the host, is a parameter: {'{host}'} stands for its value in names, targets and settings.
      </Box>
      {making && <MakeKit done={() => setMaking(false)} />}
      <Trouble error={retiring.error} />
      {kits.data.map((k) => (
        <Box component="section" key={k.id} data-kit={k.id} sx={{ borderTop: '1px solid var(--mui-palette-divider)', padding: '14px 0', maxWidth: '900px', opacity: k.retired ? 0.6 : 1 }}>
          <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'baseline' }}>
            <div>
              <Typography variant="h2">
                {k.spec.name}
                {k.retired && ', retired'}
              </Typography>
              <div className="sub">
                {k.spec.checks.map((c) => `${c.name} (${kinds[c.kind].word})`).join(' · ')}
                {(k.spec.parameters ?? []).length > 0 && ` — parameters: ${(k.spec.parameters ?? []).map((p) => p.name).join(', ')}`}
              </div>
            </div>
            {may && (
              <Box sx={{ display: 'flex', gap: '10px' }}>
                {!k.retired && <Button onClick={() => setUsing(using === k.id ? undefined : k.id)}>Use it</Button>}
                <Button variant="text" color={k.retired ? 'primary' : 'error'} onClick={() => (k.retired ? retiring.restore : retiring.retire)(k.id)}>
                  {k.retired ? 'Restore' : 'Retire'}
                </Button>
              </Box>
            )}
          </Box>
          {using === k.id && <UseKit kit={k} />}
        </Box>
      ))}
    </>
  )
}

/** A kit from what a service has: its host becomes the parameter host. */
function MakeKit({ done }: { done: () => void }) {
  const services = useServices()
  const fresh = { service: '', name: '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: 'kits/new' })
  const { service, name } = form.watch()
  const proposal = useKitOf(service)
  const spec = proposal.data
  const save = useChange({
    mutationFn: () => ask(api.POST('/api/v1/kits', { body: { spec: { ...(spec as Kit['spec']), name } } })),
    again: 'all',
    kept,
    onSuccess: done,
  })
  return (
    <div className="form in-place">
      <KeptNote kept={kept} />
      <div className="side">
        <Pick label="Service" value={service} change={(id) => form.setValue('service', id)} of={(services.data ?? []).filter((s) => !s.retired).map((s) => ({ id: s.id, name: s.spec.name }))} />
        <TextField label="Name of the kit" value={name} onChange={(e) => form.setValue('name', e.target.value)} />
      </div>
      {service && (
        <div className="consequence sub">
          {spec && (spec.checks.length === 0 ? 'It has no checks of its own.' : `${counted(spec.checks.length, 'check')}: ${spec.checks.map((c) => c.name).join(', ')}. ${(spec.parameters ?? []).map((p) => `${p.default} becomes {${p.name}}`).join(', ')}.`)}
        </div>
      )}
      <Trouble error={proposal.error} />
      <Trouble error={save.error instanceof Problem ? new Error(Object.values(save.error.fields)[0] ?? save.error.message) : save.error} />
      <Box sx={{ display: 'flex', gap: '12px' }}>
        <Button variant="contained" disabled={!spec?.checks.length || name.trim() === '' || save.isPending} onClick={() => save.mutate()}>
          Make the kit
        </Button>
        <Button variant="text" onClick={done}>
          Leave it
        </Button>
      </Box>
    </div>
  )
}

type Use = { service: string; chosen: string[] | undefined; values: Record<string, string> }

function UseKit({ kit }: { kit: Kit }) {
  const services = useServices()
  const places = useLocations()
  const keep = useKeep()
  const live = (places.data ?? []).filter((l) => !l.retired)
  const fresh: Use = { service: '', chosen: undefined, values: {} }
  const form = useForm<Use>({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: `kits/${kit.id}/use` })
  const { service, chosen, values } = form.watch()
  const locations = chosen ?? live.map((l) => l.id)
  const use = useChange({
    mutationFn: () => ask(api.POST('/api/v1/kits/{id}/use', { params: { path: { id: kit.id } }, body: { service, locations, values } })),
    again: 'all',
    kept,
  })
  const faults = use.error instanceof Problem ? Object.values(use.error.fields) : []
  return (
    <Box className="form" sx={{ marginTop: '14px' }}>
      <KeptNote kept={kept} />
      <Pick
        label="For which service"
        value={service}
        of={(services.data ?? []).filter((s) => !s.retired).map((s) => ({ id: s.id, name: s.spec.name }))}
        change={(id) => {
          form.setValue('service', id)
          use.reset()
        }}
      />
      <div className="side">
        {(kit.spec.parameters ?? []).map((p) => (
          <TextField key={p.name} label={p.name} helperText={p.text} placeholder={p.default} value={values[p.name] ?? ''} onChange={(e) => form.setValue('values', { ...values, [p.name]: e.target.value })} slotProps={{ inputLabel: { shrink: true } }} />
        ))}
      </div>
      <div>
        {live.map((l) => (
          <FormControlLabel key={l.id} label={l.spec.name} control={<Checkbox size="small" checked={locations.includes(l.id)} onChange={(_, on) => form.setValue('chosen', on ? [...locations, l.id] : locations.filter((x) => x !== l.id))} />} />
        ))}
      </div>
      <Trouble error={faults.length > 0 ? new Error(faults.join('; ')) : use.error} />
      <div>
        <Button variant="contained" disabled={!service || use.isPending || use.isSuccess} onClick={() => use.mutate()}>
          Measure {counted(kit.spec.checks.length, 'check')}
        </Button>
        {use.isSuccess && (
          <span className="sub">
            {' '}
            {counted(use.data.items.length, 'check')} made. <Link to={keep(`/services/${service}`)}>See them</Link>
          </span>
        )}
      </div>
    </Box>
  )
}
