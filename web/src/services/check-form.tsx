import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Controller, type FieldPath } from 'react-hook-form'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useChecks, useKinds, useLocations, useMayChange, useServices } from '../api/queries'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Revisions } from '../parts/revisions'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Awaited, Trouble } from '../parts/trouble'
import { useKeep } from '../time/span'
import { BelieveFields } from './believe-fields'
import { followed, inOrder, originOf } from './defaults'
import { ExpectFields, HowFields, NumberField, faultAt, type Draft, type DraftForm } from './kind-fields'
import { inward, kinds, type Kind } from './kinds'
import { LimitFields } from './limit-fields'
import { OwnHost } from './own-host'
import { allSettings, newCheck, ownSettings } from './new-check'
import { scheduleOf, useEffects } from './schedule'
import { TryNow } from './try-now'
import { useReportIns } from './queries'

type Spec = Schemas['CheckSpec']
type Check = Schemas['DefinedCheckSpec']

/** Defines a check, or edits one as a new revision. */
export function CheckPage() {
  const { id } = useParams()
  const [params] = useSearchParams()
  const checks = useChecks()
  const services = useServices()
  const places = useLocations()
  const all = useKinds()
  if (!checks.data || !services.data || !places.data || !all.data) return <Awaited error={checks.error ?? services.error ?? places.error ?? all.error} />
  const check = checks.data.find((c) => c.id === id)
  const model = checks.data.find((c) => c.id === params.get('like'))
  const service = services.data.find((s) => s.id === (check?.spec.service ?? model?.spec.service ?? params.get('service')))
  if (!service || (id && !check)) return <div className="empty">There is no such check. Choose a service, and add one there.</div>
  return <Form key={check?.id ?? params.get('like') ?? ''} check={check} model={model} service={service} all={all.data} places={places.data.filter((l) => !l.retired || check?.spec.locations.includes(l.id))} />
}

/** The draft that the form begins with: an existing check, one like another, or a new one. */
function draft(all: Schemas['Kind'][], spec: Spec | undefined, service: Schemas['DefinedServiceSpec'], places: string[]): Draft {
  const general = allSettings(all)
  const fresh = newCheck(all, spec?.kind ?? 'http', service.id, places, service.spec.check_defaults)
  const settings = Object.fromEntries((['http', 'ping', 'certificate', 'dns', 'path', 'udp', 'report_in', 'derived'] as const).map((k) => [k, { ...general[k], ...fresh[k], ...spec?.[k] }]))
  return { ...fresh, ...(spec && { follows: [], rolling: undefined, retry_s: undefined }), ...spec, ...settings, limits: spec ? (spec.limits ?? []) : fresh.limits, follows: inOrder(spec?.follows ?? fresh.follows ?? []), reason: '' }
}

/** Takes away what was left empty; undefined where nothing is left. */
function filled<T>(v: T): T | undefined {
  if (v === '' || v === null || (typeof v === 'number' && Number.isNaN(v))) return undefined
  if (Array.isArray(v)) return v.map(filled).filter((x) => x !== undefined) as T
  if (typeof v === 'object') return Object.fromEntries(Object.entries(v as object).map(([k, x]) => [k, filled(x) as unknown]).filter(([, x]) => x !== undefined)) as T
  return v
}

/** Fields that are numbers and may be left empty. */
function numbers(d: Draft): Draft {
  const n = (v: unknown) => (v === undefined || v === '' ? undefined : Number(v))
  return {
    ...d,
    retry_s: n(d.retry_s),
    ping: d.ping && { ...d.ping, dscp: n(d.ping.dscp) },
    udp: d.udp && { ...d.udp, dscp: n(d.udp.dscp) },
    path: d.path && { ...d.path, port: n(d.path.port), size_bytes: n(d.path.size_bytes) },
  }
}

function toSpec(d: Draft, defaults: Schemas['CheckDefaults'] | undefined): Spec {
  const { reason, ...spec } = numbers(d)
  void reason
  const out = filled(ownSettings(spec)) as Spec
  return { ...out, follows: followed(spec, defaults), target: (out.target ?? '').trim(), limits: out.limits ?? [] }
}

/** Shows the server's faults at the fields: spec.limits[0] is limits.0 here. */
function showAtFields(error: unknown, form: DraftForm) {
  if (!(error instanceof Problem)) return
  for (const [path, message] of Object.entries(error.fields)) {
    if (path.startsWith('spec.')) form.setError(path.slice('spec.'.length).replace(/\[(\d+)\]/g, '.$1') as FieldPath<Draft>, { type: 'server', message })
  }
}

function Form({ check, model, service, places, all }: { all: Schemas['Kind'][]; check: Check | undefined; model: Check | undefined; service: Schemas['DefinedServiceSpec']; places: Schemas['DefinedLocationSpec'][] }) {
  const like = model && !check ? { ...model.spec, pair: undefined, name: `${model.spec.name}, copy` } : undefined
  const fresh = draft(all, check?.spec ?? like, service, places.map((l) => l.id))
  const form = useForm<Draft>({ defaultValues: fresh })
  // What a request says may be secret, and is not kept in the browser.
  const typed = useKept(form, fresh, check?.revision ?? 0, { draft: `checks/${check?.id ?? `of ${service.id}`}`, without: (d) => ({ ...d, http: d.http && { ...d.http, body: undefined, headers: undefined } }) })
  const origin = originOf(form, service)
  const navigate = useNavigate()
  const keep = useKeep()
  const back = keep(`/services/${service.id}`)
  const save = useChange({
    mutationFn: async (d: Draft) => {
      const spec = toSpec(d, service.spec.check_defaults)
      if (check) await ask(api.PUT('/api/v1/checks/{id}', { params: { path: { id: check.id } }, body: { revision: check.revision, reason: d.reason, spec } }))
      else return (await ask(api.POST('/api/v1/checks', { body: { spec, reason: d.reason } }))).id
    },
    again: 'all',
    kept: typed,
    onSuccess: (id) => navigate(id && form.getValues('kind') === 'report-in' ? keep(`/checks/${id}`) : back),
    onError: (e) => showAtFields(e, form),
  })
  const retiring = useRetiring('checks', () => {
    typed.done()
    return navigate(back)
  })
  const kept = check?.spec.pair
  const may = useMayChange()(service.spec.owner) && !kept
  const v = form.watch()
  const change = (kind: Kind) => {
    // What is not of the kind stays as it was typed; what the kind starts with replaces the rest.
    const { interval_s, timeout_ms, stale_after_s, limits, confirm, recover, locations, rolling, retry_s, quorum, follows } = newCheck(all, kind, service.id, places.map((l) => l.id), service.spec.check_defaults)
    form.reset({ ...form.getValues(), kind, interval_s, timeout_ms, stale_after_s, limits, confirm, recover, locations, rolling, retry_s, quorum, follows }, { keepDirty: true })
  }
  const here = !inward(v.kind)
  const effect = useEffects({ schedules: [scheduleOf(v)] }).data?.schedules[0]
  return (
    <Box component="form" className="form" sx={{ paddingTop: '26px', maxWidth: '780px' }} noValidate onSubmit={(e) => void form.handleSubmit((x) => save.mutate(x))(e)}>
      <div>
        <Typography variant="h1">{check ? check.spec.name : `A check of ${service.spec.name}`}</Typography>
        <div className="sub">
          <Link to={back}>{service.spec.name}</Link>
          {check && ` · revision ${check.revision} in force${check.retired ? ', retired' : ''}. What was judged until now stays as it was.`}
          {check && may && (
            <>
              {' '}
              <Link to={keep(`/checks/new?like=${check.id}`)}>Make another like it</Link>
            </>
          )}
        </div>
      </div>
      <KeptNote kept={typed} of={check && { path: 'checks', id: check.id }} />
      <fieldset>
        <legend>What</legend>
        <TextField label="Name" required error={Boolean(faultAt(form, 'name'))} helperText={faultAt(form, 'name')} {...form.register('name', { required: 'Give it a name' })} />
        <Box className="side" sx={{ gridTemplateColumns: here ? '1fr 3fr' : '1fr' }}>
          <Controller
            control={form.control}
            name="kind"
            render={({ field }) => (
              <TextField select label="Kind" value={field.value} onChange={(e) => change(e.target.value as Kind)} disabled={Boolean(check)}>
                {Object.entries(kinds).map(([kind, of]) => (
                  <MenuItem key={kind} value={kind}>
                    {of.word}
                  </MenuItem>
                ))}
              </TextField>
            )}
          />
          {here && <TextField label="Target" required error={Boolean(faultAt(form, 'target'))} helperText={faultAt(form, 'target') ?? kinds[v.kind].target} {...form.register('target', { validate: (t) => inward(form.getValues('kind')) || t.trim() !== '' || 'Say what to measure' })} />}
        </Box>
        <div className="side">
          <NumberField form={form} name="interval_s" label={v.kind === 'report-in' ? 'A report at least every' : 'Every'} unit="s" min={5} max={86400} help={origin('interval_s')} />
          <NumberField form={form} name="timeout_ms" label={v.kind === 'report-in' ? 'Grace' : 'Timeout'} unit="ms" min={100} max={60000} help={origin('timeout_ms')} />
        </div>
        <HowFields form={form} />
        {v.kind === 'report-in' && check && !check.retired && may && <ReportInAddress check={check} />}
      </fieldset>
      {here && (
        <fieldset>
          <legend>From where</legend>
          <Controller
            control={form.control}
            name="locations"
            rules={{ validate: (l) => l.length > 0 || 'A check needs at least one location' }}
            render={({ field }) => (
              <div>
                {places.map((l) => (
                  <FormControlLabel
                    key={l.id}
                    label={l.spec.name}
                    control={<Checkbox size="small" checked={field.value.includes(l.id)} onChange={(_, on) => field.onChange(on ? [...field.value, l.id] : field.value.filter((x) => x !== l.id))} />}
                  />
                ))}
              </div>
            )}
          />
          {origin('locations') && <p className="sub">{origin('locations')}</p>}
          {faultAt(form, 'locations') && <p className="trouble">{faultAt(form, 'locations')}</p>}
          <OwnHost target={v.target} places={places.filter((l) => v.locations.includes(l.id))} />
          <div className="consequence sub">{effect?.cost}</div>
        </fieldset>
      )}
      <fieldset>
        <legend>What counts as bad</legend>
        <ExpectFields form={form} />
        <LimitFields form={form} effect={effect} />
      </fieldset>
      <BelieveFields form={form} origin={origin} effect={effect} />
      {here && <TryNow spec={() => toSpec(form.getValues(), service.spec.check_defaults)} places={places} />}
      {check && may && <TextField label="Why this change (kept with the revision)" {...form.register('reason')} />}
      <Trouble error={save.error ?? retiring.error} />
      {may ? (
        <Box className="side" sx={{ display: 'flex' }}>
          {check?.retired ? (
            <Button onClick={() => retiring.restore(check.id)}>Restore</Button>
          ) : (
            <Button type="submit" variant="contained" disabled={save.isPending}>
              {check ? `Save as revision ${check.revision + 1}` : 'Start measuring'}
            </Button>
          )}
          {check && !check.retired && (
            <Button color="error" variant="text" onClick={() => retiring.ask(check.id)}>
              Retire
            </Button>
          )}
        </Box>
      ) : (
        <p className="sub">{kept ? <>The pair plan {kept.plan} keeps this check; <Link to="/set-up/pairs">change it there</Link>.</> : 'A manager can change it.'}</p>
      )}
      {check && <Revisions path="checks" id={check.id} />}
      <RetireQuestion
        of={retiring}
        title={`Retire the check ${check?.spec.name}?`}
        text="It is measured no more from now on. What it measured stays, and it can be restored."
        act="Retire the check"
      />
    </Box>
  )
}

/** Makes the address that another system reports in to; it is shown this once. */
function ReportInAddress({ check }: { check: Check }) {
  const made = useReportIns()
  const make = useChange({
    mutationFn: () => ask(api.POST('/api/v1/checks/{id}/report-in', { params: { path: { id: check.id } } })),
    again: ['report-ins'],
  })
  const before = made.data?.find((r) => r.check === check.id)
  const first = check.spec.report_in?.numbers?.[0]
  const url = make.data && `${window.location.origin}${make.data.path}`
  return (
    <div>
      <Button onClick={() => make.mutate()} disabled={make.isPending}>
        {before ? 'Make a new address' : 'Make its address'}
      </Button>{' '}
      <span className="sub">{before ? `One was made by ${before.made_by}; a new one makes it worthless.` : 'Nobody can report in to it yet.'}</span>
      <Trouble error={make.error} />
      {url && (
        <>
          <Box component="p" sx={{ margin: '10px 0 6px' }}>Call it after each run. It is shown this once.</Box>
          <code className="command">
            {`curl -fsS '${url}${first ? `?${encodeURIComponent(first)}=4` : ''}'\ncurl -fsS '${url}?outcome=failed&detail=disk+full'\nkestite report-in ${url} -- ./nightly-copy.sh`}
          </code>
        </>
      )}
    </div>
  )
}
