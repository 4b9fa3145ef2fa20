import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Suspense, lazy } from 'react'
import { Controller, type UseFormReturn } from 'react-hook-form'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useAgreements, useChecks, useMayChange, useMe, usePeriodNames, useServices } from '../api/queries'
import { Day, wholeDay } from '../parts/day'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { useKey } from '../parts/key'
import { PartyPick } from '../parts/party'
import { Pick } from '../parts/pick'
import { Revisions } from '../parts/revisions'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Awaited, Trouble, showFaults } from '../parts/trouble'
import { useEffects } from '../services/schedule'
import { Beyond } from '../dependencies/beyond'
import { decimal, validAmount, validTarget } from '../parts/decimal'
import { shortTime, zoned } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { CreditFields, LatencyFields, UpstreamFields } from './clause-fields'
import { CycleFields } from './cycle-fields'
import { HoursFields } from './hours-fields'
import { clauses, fieldNames, fieldOf, splits, toSpec, values, type Values } from './values'

const Beside = lazy(() => import('./beside'))

type Agreement = Schemas['DefinedAgreementSpec']

/** Writes down an agreement, or edits its clauses, beside its last periods. */
export function AgreementPage() {
  const { id } = useParams()
  const [params] = useSearchParams()
  const agreements = useAgreements()
  const services = useServices()
  const me = useMe()
  if (!agreements.data || !services.data || !me.data) return <Awaited error={agreements.error ?? services.error ?? me.error} />
  const agreement = agreements.data.find((a) => a.id === id)
  if (id && !agreement) return <div className="empty">There is no agreement {id}.</div>
  const live = services.data.filter((s) => !s.retired || s.id === agreement?.spec.service)
  if (live.length === 0) return <div className="empty">Describe a service first; an agreement is about one.</div>
  return <Form key={agreement?.id ?? ''} agreement={agreement} services={live} zone={me.data.timezone} service={params.get('service') ?? live[0]?.id ?? ''} />
}

function Form({ agreement, services, zone, service }: { agreement: Agreement | undefined; services: Schemas['DefinedServiceSpec'][]; zone: string; service: string }) {
  const fresh = values(agreement?.spec, zone, service)
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, agreement?.revision ?? 0, { draft: `agreements/${agreement?.id ?? `new ${service}`}` })
  const checks = useChecks()
  const navigate = useNavigate()
  const keep = useKeep()
  const key = useKey()
  const save = useChange({
    mutationFn: async (v: Values) => {
      const spec = toSpec(v)
      if (agreement && v.corrects === splits) {
        const body = { revision: agreement.revision, from: v.split_from, spec, reason: v.reason }
        return (await ask(api.POST('/api/v1/agreements/{id}/split', { params: { path: { id: agreement.id } }, body: { ...body, key: key(body) } }))).ids.at(-1)
      }
      if (agreement) await ask(api.PUT('/api/v1/agreements/{id}', { params: { path: { id: agreement.id } }, body: { revision: agreement.revision, reason: v.reason, corrects: v.corrects || undefined, spec } }))
      else await ask(api.POST('/api/v1/agreements', { body: { spec, reason: v.reason } }))
      return undefined
    },
    again: 'all',
    kept,
    onSuccess: (begun) => navigate(keep(begun ? `/agreements/${begun}` : '/agreements')),
    onError: (e) => {
      showFaults(e, form.setError, 'spec.', fieldOf)
      if (e instanceof Problem && e.fields.from) form.setError('split_from', { message: e.fields.from }, { shouldFocus: true })
    },
  })
  const retiring = useRetiring('agreements', () => {
    kept.done()
    return navigate(keep('/agreements'))
  })
  const mayChange = useMayChange()
  const v = form.watch()
  const may = mayChange(services.find((s) => s.id === v.service)?.spec.owner)
  const err = form.formState.errors
  const measured = (checks.data ?? []).some((c) => c.spec.service === v.service && !c.retired && c.spec.role === 'decides')
  const effects = useEffects(measured ? { service: v.service, target_percent: decimal(v.target_percent) } : undefined)
  const field = (name: 'name' | 'timezone' | 'degraded_weight_percent' | 'min_coverage_percent', label: string, more: object = {}, help?: string) => (
    <TextField label={label} error={Boolean(err[name])} helperText={err[name]?.message ?? help} {...more} {...form.register(name)} />
  )
  const day = (name: 'from' | 'until', label: string, help: string) => (
    <Controller control={form.control} name={name} rules={{ validate: wholeDay }} render={({ field: { value, onChange, ...f } }) => <Day label={label} value={value} change={onChange} zone={zoned(v.timezone, zone)} error={err[name]?.message} help={help} field={f} />} />
  )
  const amount = (name: 'notice_h' | 'cap_h' | 'emergency_notice_min' | 'emergency_cap_h' | 'outages_at_most' | 'longest_min' | 'mttr_min', label: string, unit: string, pattern?: RegExp) => (
    <TextField
      label={label}
      error={Boolean(err[name])}
      helperText={err[name]?.message ?? (name.endsWith('cap_h') ? 'Empty: none' : undefined)}
      slotProps={{ input: { endAdornment: unit }, inputLabel: { shrink: true } }}
      {...form.register(name, pattern ? { pattern: { value: pattern, message: 'A whole number' } } : { validate: validAmount })}
    />
  )
  const percentField = { slotProps: { input: { endAdornment: '%' } } }
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 560px) minmax(260px, 1fr)', columnGap: '48px', paddingTop: '26px', alignItems: 'start' }}>
      <form className="form" noValidate onSubmit={(e) => void form.handleSubmit((x) => save.mutate(x))(e)}>
        <div>
          <Typography variant="h1">{agreement ? agreement.spec.name : 'Write down an agreement'}</Typography>
          {agreement?.retired && <div className="sub">Retired: it is accounted no further.</div>}
          {agreement && !agreement.retired && <Accounting agreement={agreement} />}
          {agreement && (
            <div className="sub">
              <Link to={keep(`/services/${agreement.spec.service}`)}>{services.find((s) => s.id === agreement.spec.service)?.spec.name ?? agreement.spec.service} and its account</Link> · <Link to={`/reports?find=${encodeURIComponent(agreement.spec.name)}`}>its reports</Link>
            </div>
          )}
        </div>
        <KeptNote kept={kept} of={agreement && { path: 'agreements', id: agreement.id }} names={fieldNames} />
        <fieldset>
          <legend>Who was promised what</legend>
          <div className="side">
            {field('name', 'Name', { required: true })}
            <Controller
              control={form.control}
              name="service"
              render={({ field: f }) => (
                <Pick label="Service" required value={f.value} change={f.onChange} of={services.map((s) => ({ id: s.id, name: s.spec.name }))} disabled={Boolean(agreement)} error={err.service?.message} />
              )}
            />
          </div>
          <div className="side">
            <Controller control={form.control} name="customer" render={({ field: f }) => <PartyPick kind="customer" label="Customer" blank="internal" value={f.value} change={f.onChange} error={err.customer?.message} />} />
            <Controller control={form.control} name="contract" render={({ field: f }) => <PartyPick kind="contract" label="Contract" blank="none: it stands by itself" value={f.value} change={f.onChange} customer={v.customer} error={err.contract?.message} />} />
          </div>
          <div className="side">
            <TextField label="Target" required error={Boolean(err.target_percent)} helperText={err.target_percent?.message} {...percentField} {...form.register('target_percent', { validate: validTarget })} />
            {day('from', 'From', 'Empty: from now on')}
            {day('until', 'Last day', 'Empty: no end')}
          </div>
          <div className="side">
            <CycleFields form={form} />
            {field('timezone', 'In the zone', { required: true })}
          </div>
          <Beyond service={v.service} target={v.target_percent} />
          <div className="consequence sub">{measured ? effects.data?.resolution : services.find((s) => s.id === v.service)?.spec.depends_on?.length ? 'What it needs decides its state; no check of its own does.' : 'No check decides the service yet: nothing will be measured.'}</div>
        </fieldset>
        <fieldset>
          <legend>When it counts</legend>
          <Controller
            control={form.control}
            name="hours"
            render={({ field: f }) => (
              <TextField select label="Service hours" {...f}>
                <MenuItem value="always">at all hours</MenuItem>
                <MenuItem value="weekly">by the week</MenuItem>
              </TextField>
            )}
          />
          {v.hours === 'weekly' && <HoursFields form={form} name="plan" holidays="Holidays, without hours" may={may} />}
          <div className="side">
            <Controller
              control={form.control}
              name="mode"
              render={({ field: f }) => (
                <TextField select label="Announced maintenance" {...f}>
                  <MenuItem value="ignore">counts like any time</MenuItem>
                  <MenuItem value="exclude">is taken out of the base</MenuItem>
                  <MenuItem value="forgive">is forgiven</MenuItem>
                </TextField>
              )}
            />
            {v.mode !== 'ignore' && (
              <>
                {amount('notice_h', 'Notice', 'h')}
                {amount('cap_h', 'Cap a period', 'h')}
              </>
            )}
          </div>
          {v.mode !== 'ignore' && (
            <Controller
              control={form.control}
              name="within"
              render={({ field: f }) => (
                <TextField select label="Work is agreed" {...f}>
                  <MenuItem value="any">at any time</MenuItem>
                  <MenuItem value="weekly">at times of the week</MenuItem>
                </TextField>
              )}
            />
          )}
          {v.mode !== 'ignore' && v.within === 'weekly' && <HoursFields form={form} name="within_plan" holidays="Days without work" may={may} />}
          {v.mode !== 'ignore' && (
            <div className="side">
              <Controller
                control={form.control}
                name="emergency"
                render={({ field: f }) => (
                  <TextField select label="Emergency work" {...f}>
                    <MenuItem value="no">counts like any time</MenuItem>
                    <MenuItem value="yes">is granted the same way</MenuItem>
                  </TextField>
                )}
              />
              {v.emergency === 'yes' && (
                <>
                  {amount('emergency_notice_min', 'Notice of it', 'min')}
                  {amount('emergency_cap_h', 'Cap of it a period', 'h')}
                </>
              )}
            </div>
          )}
        </fieldset>
        <fieldset>
          <legend>How it counts</legend>
          <div className="side">
            {field('degraded_weight_percent', 'Degraded counts as downtime to', percentField)}
            <Controller
              control={form.control}
              name="unmeasured"
              render={({ field: f }) => (
                <TextField select label="Time not measured" {...f}>
                  <MenuItem value="exclude">is taken out</MenuItem>
                  <MenuItem value="down">counts as down</MenuItem>
                  <MenuItem value="up">stays, as no downtime</MenuItem>
                </TextField>
              )}
            />
          </div>
          <div className="side">
            <TextField label="Tolerate outages shorter than" type="number" slotProps={{ input: { endAdornment: 's' }, htmlInput: { min: 0, max: 86400 } }} error={Boolean(err.min_outage_s)} helperText={err.min_outage_s?.message} {...form.register('min_outage_s')} />
            {field('min_coverage_percent', 'No verdict below a coverage of', percentField)}
          </div>
          <UpstreamFields form={form} services={services} />
        </fieldset>
        <fieldset>
          <legend>Promised beside availability</legend>
          <div className="side">
            {amount('outages_at_most', 'Outages a period, at most', '', /^\d*$/)}
            {amount('longest_min', 'Longest outage, at most', 'min')}
            {amount('mttr_min', 'Mean time to restore, at most', 'min')}
          </div>
          <LatencyFields form={form} checks={checks.data ?? []} />
          <div className="sub">Each has a verdict of its own, and none on the agreement’s. Empty: not promised.</div>
        </fieldset>
        <fieldset>
          <legend>What a missed target costs</legend>
          <CreditFields form={form} may={may} />
        </fieldset>
        {agreement && !agreement.retired && may && <WhenItCounts form={form} agreement={agreement} />}
        <Trouble error={save.error ?? retiring.error} />
        {may ? (
          <Box sx={{ display: 'flex', gap: '12px' }}>
            {agreement?.retired ? (
              <Button onClick={() => retiring.restore(agreement.id)}>Restore</Button>
            ) : (
              <Button type="submit" variant="contained" disabled={save.isPending}>
                {!agreement ? 'Save the agreement' : v.corrects === splits ? 'End it, and begin another' : `Save as revision ${agreement.revision + 1}`}
              </Button>
            )}
            {agreement && !agreement.retired && (
              <Button color="error" variant="text" onClick={() => retiring.ask(agreement.id)}>
                Retire
              </Button>
            )}
          </Box>
        ) : (
          <p className="sub">You may try other clauses here; a manager can save them.</p>
        )}
        {agreement && <Revisions path="agreements" id={agreement.id} counts />}
        <RetireQuestion
          of={retiring}
          title={`Retire the agreement ${agreement?.spec.name}?`}
          text="It is accounted no further from now on. Its past accounts and its reports stay, and it can be restored."
          act="Retire the agreement"
        />
      </form>
      <div>
        <Suspense fallback={null}>
          <Beside agreement={agreement} wanted={toSpec(v)} clauses={clauses} own={agreement ? clauses(toSpec(values(agreement.spec, '', ''))) : ''} />
        </Suspense>
      </div>
    </Box>
  )
}

/** Which revision accounts what, in a sentence. */
function Accounting({ agreement }: { agreement: Agreement }) {
  const names = usePeriodNames(agreement.id).data
  const { zone } = useZone()
  const [next, present] = names ?? []
  if (!next || !present) return null
  const later = agreement.counts_from && Date.parse(agreement.counts_from) > Date.parse(present.from)
  return (
    <div className="sub" data-accounting>
      {present.words} is accounted by revision {present.revision}.{' '}
      {later && agreement.counts_from && `Revision ${agreement.revision}, which this form shows, counts from ${shortTime(agreement.counts_from, zone)} (${zone}) on. `}
      An edit counts from {next.words} on, unless it is a correction.
    </div>
  )
}

/** From which period an edit counts, and why it was made. */
function WhenItCounts({ form, agreement }: { form: UseFormReturn<Values>; agreement: Agreement }) {
  const names = usePeriodNames(agreement.id).data ?? []
  const err = form.formState.errors
  const next = names[0]
  // What has a published report stays as it is, and so does all before it.
  const frozen = names.findIndex((p) => p.published)
  const open = names.slice(1, frozen < 0 ? undefined : frozen)
  const correcting = form.watch('corrects') !== ''
  const splitting = form.watch('corrects') === splits
  const says = splitting ? 'Two accounts: this agreement ends the day before, another begins' : 'A correction: accounts that have begun change with it'
  return (
    <div className="side">
      <Controller
        control={form.control}
        name="corrects"
        render={({ field: f }) => (
          <TextField
            select
            label="Counts from"
            {...f}
            error={Boolean(err.corrects)}
            helperText={err.corrects?.message ?? (correcting ? says : undefined)}
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
>
            <MenuItem value="">{next?.words ?? 'the next period'}, the next period</MenuItem>
            {open.map((p) => (
              <MenuItem key={p.name} value={p.name}>
                {p.words}, as a correction
              </MenuItem>
            ))}
            <MenuItem value={splits}>a day within a period, as a second agreement</MenuItem>
          </TextField>
        )}
      />
      {splitting && (
        <Controller
          control={form.control}
          name="split_from"
          rules={{ validate: (day, all) => all.corrects !== splits || (day === '' ? 'Choose a day' : wholeDay(day)) }}
          render={({ field: { value, onChange, ...f } }) => <Day label="First day of the new clauses" required value={value} change={onChange} zone={agreement.spec.timezone} error={err.split_from?.message} field={f} />}
        />
      )}
      <TextField
        label={correcting && !splitting ? 'Why this correction' : 'Why this change'}
        required={correcting}
        error={Boolean(err.reason)}
        helperText={err.reason?.message ?? 'Kept with the revision'}
        {...form.register('reason', { validate: (text, all) => !all.corrects || text.trim() !== '' || 'Say why: an account that has begun changes with it' })}
      />
    </div>
  )
}
