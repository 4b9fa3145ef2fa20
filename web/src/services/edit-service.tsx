import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Controller, type UseFormReturn } from 'react-hook-form'
import { useNavigate, useParams } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useServices } from '../api/queries'
import { PlanPick } from '../notices/plan-pick'
import { decimal, validAmount } from '../parts/decimal'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { PartyPick } from '../parts/party'
import { Trouble, showFaults } from '../parts/trouble'
import { useKeep } from '../time/span'
import { DefaultFields } from './default-fields'
import { DependsFields } from './depends-fields'

type Service = Schemas['DefinedServiceSpec']
type Values = {
  name: string
  kind: 'business' | 'supporting' | 'supplier'
  owner: string
  tags: string
  runbook: string
  note: string
  combine: 'worst' | 'best'
  depends: Schemas['Dependency'][]
  defaults: Schemas['CheckDefaults']
  down: Severity
  degraded: Severity
  informs: Severity
  reopen: string
  plan: string
  owners_too: boolean
  work_approval: boolean
  reason: string
}

/** How severe something is; empty: as it goes without saying. */
type Severity = NonNullable<Schemas['TroublePolicy']['down']> | ''

const values = (s: Service['spec']): Values => ({
  name: s.name,
  kind: s.kind,
  owner: s.owner ?? '',
  tags: (s.tags ?? []).join(', '),
  runbook: s.runbook ?? '',
  note: s.note ?? '',
  combine: s.combine ?? 'worst',
  depends: s.depends_on ?? [],
  defaults: s.check_defaults ?? {},
  down: s.incidents?.down ?? '',
  degraded: s.incidents?.degraded ?? '',
  informs: s.incidents?.informs ?? '',
  reopen: s.incidents?.reopen_s === undefined ? '' : String(s.incidents.reopen_s / 60),
  plan: s.notices?.plan ?? '',
  owners_too: s.notices?.owner ?? false,
    work_approval: s.work_approval ?? false,
  reason: '',
})

const names = { owner: 'Owned by', combine: 'Its deciding checks', depends: 'What it depends on', defaults: 'What its checks follow', reopen: 'Opens again within', plan: 'Notice plan of its own', owners_too: 'That of its owner too', work_approval: 'A second person approves planned work' }

/** What opens incidents, as it is saved; undefined where all goes without saying. */
function policy(v: Values): Schemas['TroublePolicy'] | undefined {
  const reopen = v.reopen.trim() === '' ? undefined : Math.round(Number(decimal(v.reopen)) * 60)
  if (!v.down && !v.degraded && !v.informs && reopen === undefined) return undefined
  return { down: v.down || undefined, degraded: v.degraded || undefined, informs: v.informs || undefined, reopen_s: reopen }
}

/** Edits a service: a new revision from now on. */
export function EditService() {
  const { id = '' } = useParams()
  const services = useServices()
  const service = services.data?.find((s) => s.id === id)
  if (services.data && !service) return <div className="empty">There is no service {id}.</div>
  return service ? <Form key={service.id} service={service} all={services.data ?? []} /> : <Trouble error={services.error} />
}

function Form({ service, all }: { service: Service; all: Service[] }) {
  const s = service.spec
  const fresh = values(s)
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, service.revision, { draft: `services/${service.id}` })
  const { depends, defaults } = form.watch()
  const setDepends = (list: Values['depends']) => {
    form.clearErrors('depends')
    form.setValue('depends', list)
  }
  const navigate = useNavigate()
  const keep = useKeep()
  const save = useChange({
    mutationFn: (v: Values) =>
      ask(
        api.PUT('/api/v1/services/{id}', {
          params: { path: { id: service.id } },
          body: {
            revision: service.revision,
            reason: v.reason,
            spec: {
              name: v.name,
              kind: v.kind,
              owner: v.owner || undefined,
              tags: v.tags.split(',').map((t) => t.trim()).filter(Boolean),
              runbook: v.runbook || undefined,
              note: v.note || undefined,
              combine: v.combine,
              depends_on: v.depends.filter((d) => d.services.length > 0),
              check_defaults: Object.values(v.defaults).some((x) => (Array.isArray(x) ? x.length > 0 : x)) ? v.defaults : undefined,
              incidents: policy(v),
              work_approval: v.work_approval || undefined,
              notices: v.plan ? { plan: v.plan, owner: v.owners_too || undefined } : undefined,
            },
          },
        }),
      ),
    again: 'all',
    kept,
    onSuccess: () => navigate(keep(`/services/${service.id}`)),
    onError: (e) => showFaults(e, form.setError, 'spec.', { 'incidents.': '', 'incidents.reopen_s': 'reopen', 'notices.plan': 'plan', 'depends_on[': 'depends' }),
  })
  const err = form.formState.errors
  const others = all.filter((o) => !o.retired && o.id !== service.id)
  return (
    <Box component="form" className="form" sx={{ paddingTop: '26px' }} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <div>
        <Typography variant="h1">Edit {s.name}</Typography>
        <div className="sub">Revision {service.revision} is in force. What was judged until now stays as it was.</div>
      </div>
      <KeptNote kept={kept} of={{ path: 'services', id: service.id }} names={names} />
      <fieldset>
        <legend>What it is</legend>
        <TextField label="Name" required error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
        <div className="side">
          <TextField select label="Kind" value={form.watch('kind')} {...form.register('kind')}>
            <MenuItem value="business">business</MenuItem>
            <MenuItem value="supporting">supporting</MenuItem>
            <MenuItem value="supplier">supplier</MenuItem>
          </TextField>
          <Controller control={form.control} name="owner" render={({ field }) => <PartyPick kind="team" label="Owned by" value={field.value} change={field.onChange} error={err.owner?.message} />} />
        </div>
        <TextField label="Tags" helperText="Separated by commas" {...form.register('tags')} />
        <TextField label="Runbook" error={Boolean(err.runbook)} helperText={err.runbook?.message} {...form.register('runbook')} />
        <TextField label="Note" multiline minRows={2} {...form.register('note')} />
        <FormControlLabel label="Planned work on it needs a second person who approves it" control={<Controller control={form.control} name="work_approval" render={({ field }) => <Checkbox size="small" checked={field.value} onChange={field.onChange} />} />} />
      </fieldset>
      <fieldset>
        <legend>What its state is made of</legend>
        <TextField select label="Its deciding checks" value={form.watch('combine')} {...form.register('combine')}>
          <MenuItem value="worst">the worst of them: all are needed</MenuItem>
          <MenuItem value="best">the best of them: one way in is enough</MenuItem>
        </TextField>
        <div className="sub">What it depends on decides while no deciding check of its own is in force.</div>
        <DependsFields value={depends} change={setDepends} others={others} error={err.depends?.message} />
      </fieldset>
      <DefaultFields service={service.id} value={defaults} change={(d) => form.setValue('defaults', d)} />
      <fieldset>
        <legend>When it fails</legend>
        <div className="side">
          <Severe form={form} name="down" label="That it is down is" otherwise={form.watch('kind') === 'business' ? 'critical' : 'major'} />
          <Severe form={form} name="degraded" label="Degraded is" otherwise="minor" />
          <Severe form={form} name="informs" label="A check that informs is" otherwise="minor" />
          <TextField label="Again within (min)" error={Boolean(err.reopen)} helperText={err.reopen?.message ?? 'Trouble that is back sooner is the same incident; empty: 10'} {...form.register('reopen', { validate: validAmount })} />
        </div>
        <Controller control={form.control} name="plan" render={({ field }) => <PlanPick label="Notice plan of its own" value={field.value} change={field.onChange} error={err.plan?.message} help="Who is told of its incidents; empty: as its owner’s plan says" />} />
        {form.watch('plan') !== '' && <FormControlLabel label="The plan of its owner tells too" control={<Controller control={form.control} name="owners_too" render={({ field }) => <Checkbox size="small" checked={field.value} onChange={field.onChange} />} />} />}
      </fieldset>
      <TextField label="Why this change (kept with the revision)" {...form.register('reason')} />
      <Trouble error={save.error} />
      <div>
        <Button type="submit" variant="contained" disabled={save.isPending}>
          Save as revision {service.revision + 1}
        </Button>
      </div>
    </Box>
  )
}

function Severe({ form, name, label, otherwise }: { form: UseFormReturn<Values>; name: 'down' | 'degraded' | 'informs'; label: string; otherwise: string }) {
  return (
    <Controller
      control={form.control}
      name={name}
      render={({ field }) => (
        <TextField select label={label} value={field.value} onChange={field.onChange} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
          <MenuItem value="">{otherwise}, as usual</MenuItem>
          <MenuItem value="critical">critical</MenuItem>
          <MenuItem value="major">major</MenuItem>
          <MenuItem value="minor">minor</MenuItem>
          <MenuItem value="none">no incident</MenuItem>
        </TextField>
      )}
    />
  )
}
