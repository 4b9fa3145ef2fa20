import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Controller, useForm } from 'react-hook-form'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, ask, type Schemas } from '../api/client'
import { useChecks, useLocations, useMayDefine, useServices } from '../api/queries'
import { Confirm, Trouble, showFaults } from '../parts/trouble'
import { useKeep } from '../time/period'
import { kinds, type Kind } from './kinds'
import { cost, detection } from './plan'

type Spec = Schemas['CheckSpec']
type Check = Schemas['DefinedCheckSpec']
type Values = {
  name: string
  kind: Kind
  target: string
  interval_s: number
  timeout_ms: number
  stale_after_s: number
  confirm: number
  recover: number
  quorum: string
  role: 'decides' | 'informs'
  locations: string[]
  packets: number
  size_bytes: number
  spacing_ms: number
  status: string
  text: string
  server_name: string
  waive_trust: boolean
  waive_name: boolean
  record: NonNullable<Schemas['DNSSettings']['type']>
  resolver: string
  expect: string
  signed: boolean
  degraded: string
  failed: string
  reason: string
}

/** Defines a check, or edits one as a new revision. */
export function CheckPage() {
  const { id } = useParams()
  const [params] = useSearchParams()
  const checks = useChecks()
  const services = useServices()
  const places = useLocations()
  if (!checks.data || !services.data || !places.data) return <Trouble error={checks.error ?? services.error ?? places.error} />
  const check = checks.data.find((c) => c.id === id)
  const service = services.data.find((s) => s.id === (check?.spec.service ?? params.get('service')))
  if (!service || (id && !check)) return <div className="empty">There is no such check. Choose a service, and add one there.</div>
  return <Form key={check?.revision ?? 0} check={check} service={service} places={places.data.filter((l) => !l.retired || check?.spec.locations.includes(l.id))} />
}

/** The field of the form for a path in the spec, where they differ. */
const fieldOf: Record<string, keyof Values> = {
  'http.status': 'status',
  'http.text': 'text',
  'dns.type': 'record',
  'dns.resolver': 'resolver',
  'dns.expect': 'expect',
  'certificate.server_name': 'server_name',
  'ping.packets': 'packets',
  'ping.size_bytes': 'size_bytes',
  'ping.spacing_ms': 'spacing_ms',
  'limits[0]': 'failed',
}

const records = ['A', 'AAAA', 'CNAME', 'MX', 'NS', 'TXT', 'SOA', 'SRV', 'CAA', 'PTR'] as const

function values(spec: Spec | undefined, places: string[]): Values {
  const of = kinds[spec?.kind ?? 'http'].limit
  const limit = spec?.limits?.find((l) => l.measure === of.measure)
  const bound = (word: 'degraded' | 'failed') => limit?.[`${word}_${of.bad}`]?.toString() ?? ''
  return {
    name: spec?.name ?? '',
    kind: spec?.kind ?? 'http',
    target: spec?.target ?? '',
    interval_s: spec?.interval_s ?? 60,
    timeout_ms: spec?.timeout_ms ?? 5000,
    stale_after_s: spec?.stale_after_s ?? 190,
    confirm: spec?.confirm ?? 2,
    recover: spec?.recover ?? 2,
    quorum: spec?.quorum ?? 'majority',
    role: spec?.role ?? 'decides',
    locations: spec?.locations ?? places,
    packets: spec?.ping?.packets ?? 5,
    size_bytes: spec?.ping?.size_bytes ?? 56,
    spacing_ms: spec?.ping?.spacing_ms ?? 200,
    status: spec?.http?.status ?? '200-399',
    text: spec?.http?.text ?? '',
    server_name: spec?.certificate?.server_name ?? '',
    waive_trust: spec?.certificate?.waive_trust ?? false,
    waive_name: spec?.certificate?.waive_name ?? false,
    record: spec?.dns?.type ?? 'A',
    resolver: spec?.dns?.resolver ?? '',
    expect: spec?.dns?.expect ?? '',
    signed: spec?.dns?.signed ?? false,
    degraded: bound('degraded'),
    failed: bound('failed'),
    reason: '',
  }
}

function toSpec(v: Values, service: string, was: Spec | undefined): Spec {
  const number = (s: string) => (s.trim() === '' ? undefined : Number(s))
  const of = kinds[v.kind].limit
  const others = (was?.limits ?? []).filter((l) => l.measure !== of.measure)
  const bounds = { degraded: number(v.degraded), failed: number(v.failed) }
  const limit = { measure: of.measure, [`degraded_${of.bad}`]: bounds.degraded, [`failed_${of.bad}`]: bounds.failed }
  return {
    service,
    name: v.name,
    kind: v.kind,
    target: v.target.trim(),
    interval_s: Number(v.interval_s),
    timeout_ms: Number(v.timeout_ms),
    stale_after_s: Number(v.stale_after_s),
    confirm: Number(v.confirm),
    recover: Number(v.recover),
    quorum: v.quorum,
    role: v.role,
    locations: v.locations,
    limits: bounds.degraded === undefined && bounds.failed === undefined ? others : [...others, limit],
    ping: v.kind === 'ping' ? { packets: Number(v.packets), size_bytes: Number(v.size_bytes), spacing_ms: Number(v.spacing_ms) } : undefined,
    http: v.kind === 'http' ? { status: v.status, text: v.text || undefined } : undefined,
    certificate: v.kind === 'certificate' ? { server_name: v.server_name || undefined, waive_trust: v.waive_trust, waive_name: v.waive_name } : undefined,
    dns: v.kind === 'dns' ? { type: v.record, resolver: v.resolver.trim() || undefined, expect: v.expect.trim() || undefined, signed: v.signed } : undefined,
  }
}

function Form({ check, service, places }: { check: Check | undefined; service: Schemas['DefinedServiceSpec']; places: Schemas['DefinedLocationSpec'][] }) {
  const form = useForm<Values>({ defaultValues: values(check?.spec, places.map((l) => l.id)) })
  const client = useQueryClient()
  const navigate = useNavigate()
  const keep = useKeep()
  const [asking, setAsking] = useState(false)
  const back = keep(`/services/${service.id}`)
  const done = async () => {
    await client.invalidateQueries()
    await navigate(back)
  }
  const save = useMutation({
    mutationFn: async (v: Values) => {
      const spec = toSpec(v, service.id, check?.spec)
      if (check) await ask(api.PUT('/api/v1/checks/{id}', { params: { path: { id: check.id } }, body: { revision: check.revision, reason: v.reason, spec } }))
      else await ask(api.POST('/api/v1/checks', { body: { spec, reason: v.reason } }))
    },
    onSuccess: done,
    onError: (e) => showFaults(e, form.setError, 'spec.', fieldOf),
  })
  const retire = useMutation({ mutationFn: () => ask(api.DELETE('/api/v1/checks/{id}', { params: { path: { id: check?.id ?? '' } } })), onSuccess: done, onSettled: () => setAsking(false) })
  const restore = useMutation({ mutationFn: () => ask(api.POST('/api/v1/checks/{id}/restore', { params: { path: { id: check?.id ?? '' } } })), onSuccess: done })
  const may = useMayDefine()
  const v = form.watch()
  const of = kinds[v.kind].limit
  const err = form.formState.errors as Record<string, { message?: string } | undefined>
  const number = (name: keyof Values, label: string, unit: string, min: number, max: number) => (
    <TextField
      label={label}
      type="number"
      required
      error={Boolean(err[name])}
      helperText={err[name]?.message}
      slotProps={{ htmlInput: { min, max }, input: { endAdornment: unit } }}
      {...form.register(name, { min: { value: min, message: `At least ${min} ${unit}` }, max: { value: max, message: `At most ${max} ${unit}` } })}
    />
  )
  return (
    <form className="form" style={{ paddingTop: 26 }} noValidate onSubmit={(e) => void form.handleSubmit((x) => save.mutate(x))(e)}>
      <div>
        <h1 style={{ margin: 0 }}>{check ? check.spec.name : `A check of ${service.spec.name}`}</h1>
        <div className="sub">
          <Link to={back}>{service.spec.name}</Link>
          {check && ` · revision ${check.revision} in force${check.retired ? ', retired' : ''}. What was judged until now stays as it was.`}
        </div>
      </div>
      <fieldset>
        <legend>What</legend>
        <TextField label="Name" required error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name', { required: 'Give it a name' })} />
        <div className="side" style={{ gridTemplateColumns: '1fr 3fr' }}>
          <Controller
            control={form.control}
            name="kind"
            render={({ field }) => (
              <TextField select label="Kind" {...field} disabled={Boolean(check)}>
                {Object.entries(kinds).map(([kind, of]) => (
                  <MenuItem key={kind} value={kind}>
                    {of.word}
                  </MenuItem>
                ))}
              </TextField>
            )}
          />
          <TextField label="Target" required error={Boolean(err.target)} helperText={err.target?.message ?? kinds[v.kind].target} {...form.register('target', { required: 'Say what to measure' })} />
        </div>
        <div className="side">
          {number('interval_s', 'Every', 's', 5, 86400)}
          {number('timeout_ms', 'Timeout', 'ms', 100, 60000)}
        </div>
        {v.kind === 'ping' && (
          <div className="side">
            {number('packets', 'Packets', '', 1, 100)}
            {number('spacing_ms', 'Spacing', 'ms', 10, 10000)}
            {number('size_bytes', 'Payload', 'B', 8, 8192)}
          </div>
        )}
      </fieldset>
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
        {err.locations && <p className="trouble">{err.locations.message}</p>}
        <div className="consequence sub">{cost(v.kind, Number(v.interval_s), v.locations.length, Number(v.packets), Number(v.size_bytes))}</div>
      </fieldset>
      <fieldset>
        <legend>What counts as bad</legend>
        {v.kind === 'certificate' && (
          <>
            <TextField label="Name to find in the certificate" helperText="Empty: the target’s host" {...form.register('server_name')} />
            <div>
              <FormControlLabel label="Take a chain that leads to no trusted root" control={<Checkbox size="small" defaultChecked={v.waive_trust} {...form.register('waive_trust')} />} />
              <FormControlLabel label="Take a certificate for another name" control={<Checkbox size="small" defaultChecked={v.waive_name} {...form.register('waive_name')} />} />
              {(v.waive_trust || v.waive_name) && <div className="sub">A waiver is shown wherever the check is. Expiry is judged all the same.</div>}
            </div>
          </>
        )}
        {v.kind === 'dns' && (
          <>
            <div className="side">
              <Controller
                control={form.control}
                name="record"
                render={({ field: f }) => (
                  <TextField select label="Record" {...f}>
                    {records.map((r) => (
                      <MenuItem key={r} value={r}>
                        {r}
                      </MenuItem>
                    ))}
                  </TextField>
                )}
              />
              <TextField label="Resolver" error={Boolean(err.resolver)} helperText={err.resolver?.message ?? 'Empty: the agent’s own'} {...form.register('resolver')} />
              <TextField label="Answer that must be there" {...form.register('expect')} />
            </div>
            <div>
              <FormControlLabel label="Verified by DNSSEC" control={<Checkbox size="small" defaultChecked={v.signed} {...form.register('signed')} />} />
            </div>
          </>
        )}
        {v.kind === 'http' && (
          <div className="side">
            <TextField label="Expected status" error={Boolean(err.status)} helperText={err.status?.message ?? 'Such as 200-299,304'} {...form.register('status')} />
            <TextField label="Text that must be there" {...form.register('text')} />
          </div>
        )}
        <div className="side">
          {(['degraded', 'failed'] as const).map((word) => (
            <TextField
              key={word}
              label={`${word === 'degraded' ? 'Degraded' : 'Failed'} ${of.bad}${of.of && ` ${of.of} of`}`}
              error={Boolean(err[word])}
              helperText={err[word]?.message}
              slotProps={{ input: { endAdornment: of.unit } }}
              {...form.register(word, { pattern: { value: /^\d*(\.\d+)?$/, message: 'A number' } })}
            />
          ))}
        </div>
        <div className="side">
          {number('confirm', 'Failures to believe it', '', 1, 100)}
          {number('recover', 'Good ones to recover', '', 1, 100)}
          {number('stale_after_s', 'Silent after', 's', 5, 604800)}
        </div>
        <div className="side">
          <TextField label="Locations that must agree" error={Boolean(err.quorum)} helperText={err.quorum?.message ?? 'any, majority, all or a number'} {...form.register('quorum')} />
          <Controller
            control={form.control}
            name="role"
            render={({ field }) => (
              <TextField select label="Role" {...field}>
                <MenuItem value="decides">decides the service’s state</MenuItem>
                <MenuItem value="informs">informs only</MenuItem>
              </TextField>
            )}
          />
        </div>
        <div className="consequence sub">{detection(Number(v.interval_s), Number(v.timeout_ms), Number(v.confirm))}</div>
      </fieldset>
      <TryNow spec={() => toSpec(form.getValues(), service.id, check?.spec)} places={places} />
      {check && may && <TextField label="Why this change (kept with the revision)" {...form.register('reason')} />}
      <Trouble error={save.error ?? retire.error ?? restore.error} />
      {may ? (
        <div className="side" style={{ display: 'flex' }}>
          {check?.retired ? (
            <Button onClick={() => restore.mutate()}>Restore</Button>
          ) : (
            <Button type="submit" variant="contained" disabled={save.isPending}>
              {check ? `Save as revision ${check.revision + 1}` : 'Start measuring'}
            </Button>
          )}
          {check && !check.retired && (
            <Button color="error" variant="text" onClick={() => setAsking(true)}>
              Retire
            </Button>
          )}
        </div>
      ) : (
        <p className="sub">A manager can change it.</p>
      )}
      {check && <History id={check.id} />}
      <Confirm
        open={asking}
        title={`Retire the check ${check?.spec.name}?`}
        text="It is measured no more from now on. What it measured stays, and it can be restored."
        act="Retire the check"
        busy={retire.isPending}
        onYes={() => retire.mutate()}
        onNo={() => setAsking(false)}
      />
    </form>
  )
}

function TryNow({ spec, places }: { spec: () => Spec; places: Schemas['DefinedLocationSpec'][] }) {
  const [ids, setIds] = useState<string[]>([])
  const start = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/trials', { body: spec() })).then((l) => l.items),
    onSuccess: (list) => setIds(list.map((t) => t.id)),
  })
  const trials = useQuery({
    queryKey: ['trials', ids.join()],
    queryFn: () => ask(api.GET('/api/v1/trials', { params: { query: { ids } } })).then((l) => l.items),
    enabled: ids.length > 0,
    refetchInterval: (q) => (q.state.data?.every((t) => t.state === 'done' || t.state === 'lost') ? false : 700),
  })
  return (
    <div>
      <Button onClick={() => start.mutate()} disabled={start.isPending}>
        Try it now
      </Button>{' '}
      <span className="sub">One measurement from each location; it enters no account.</span>
      <Trouble error={start.error} />
      {trials.data?.map((t) => (
        <div key={t.id} className="sub" style={{ marginTop: 6 }}>
          <b>{places.find((l) => l.id === t.location)?.spec.name ?? t.location}</b>:{' '}
          {t.state === 'done' ? `${t.outcome}. ${t.detail ?? ''} ${Object.entries(t.measures ?? {}).map(([k, n]) => `${k} ${n}`).join(', ')}` : t.state === 'lost' ? 'no agent took it' : 'trying …'}
        </div>
      ))}
    </div>
  )
}

function History({ id }: { id: string }) {
  const revisions = useQuery({ queryKey: ['revisions', 'check', id], queryFn: () => ask(api.GET('/api/v1/checks/{id}/revisions', { params: { path: { id } } })).then((l) => l.items) })
  if (!revisions.data) return null
  return (
    <section>
      <h2>Revisions</h2>
      <table className="plain">
        <thead>
          <tr>
            <th>No.</th>
            <th>In force from</th>
            <th>By</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          {revisions.data.map((r) => (
            <tr key={r.number}>
              <td>{r.number}</td>
              <td>{new Date(r.from).toISOString().replace('T', ' ').slice(0, 16)} UTC</td>
              <td>{r.by}</td>
              <td>{r.reason || '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
