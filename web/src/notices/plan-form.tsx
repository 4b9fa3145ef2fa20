import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Controller, useFieldArray, type Control, type UseFormReturn } from 'react-hook-form'
import { Link, useNavigate, useParams } from 'react-router'
import type { Schemas } from '../api/client'
import { useKinds, useMayDefineForAll, useSelected } from '../api/queries'
import { decimal, validAmount } from '../parts/decimal'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { Revisions } from '../parts/revisions'
import { useSaving } from '../parts/save'
import { Awaited, Trouble } from '../parts/trouble'
import { useKeep, useZone } from '../time/span'
import { NoticesNav } from './head'
import { useReceivers } from './receivers'
import { ReceiversPick } from './receivers-pick'
import { usePlans, type Plan } from './queries'
import { dayNames, keyOf, recipientOf, sentences } from './words'
import { Week } from './week'
import './notices.css'

type Spec = Schemas['NoticePlanSpec']
type Step = { after: string; tell: string[]; by: string; repeat: string; most: string }
type Values = {
  name: string
  everywhere: boolean
  severities: string[]
  about: string[]
  check_kinds: string[]
  tags: string
  steps: Step[]
  all_clear: boolean
  remind: string
  selections: string[]
  agreed: '' | 'inside' | 'outside'
  hours: Schemas['WeeklyPlan'] | null
  outside: 'wait' | 'digest' | 'plan'
  instead: string
  digests: boolean
  digest_at: string
  digest_days: string[]
  digest_zone: string
  most_per_hour: string
  note: string
}

const minutes = (s: number | undefined) => (s ? String(s / 60) : '')

const valuesOf = (s: Spec | undefined): Values => ({
  name: s?.name ?? '',
  everywhere: s?.everywhere ?? false,
  severities: s?.severities ?? [],
  about: s?.about ?? [],
  check_kinds: s?.check_kinds ?? [],
  tags: (s?.tags ?? []).join(', '),
  steps: s?.steps.map((x) => ({ after: minutes(x.after_s) || '0', tell: x.tell.map(keyOf), by: x.by?.length === 1 ? (x.by[0] ?? '') : '', repeat: minutes(x.repeat_s), most: x.most ? String(x.most) : '' })) ?? [{ after: '0', tell: [], by: '', repeat: '', most: '' }],
  all_clear: !s?.no_all_clear,
  remind: s?.remind_s ? String(s.remind_s / 3600) : '',
  selections: s?.selections ?? [],
  agreed: s?.agreed ?? '',
  hours: s?.hours ?? null,
  outside: s?.outside ?? 'wait',
  instead: s?.instead ?? '',
  digests: Boolean(s?.digest && !s.hours),
  digest_at: (s?.digest?.at ?? []).join(', '),
  digest_days: s?.digest?.days ?? [],
  digest_zone: s?.digest?.timezone ?? '',
  most_per_hour: s?.most_per_hour ? String(s.most_per_hour) : '',
  note: s?.note ?? '',
})

/** A time in a field, in whole seconds; undefined where there is none. */
const seconds = (text: string, unit: number) => (text.trim() === '' ? undefined : Math.round(Number(decimal(text)) * unit))
const some = <T,>(list: T[]) => (list.length ? list : undefined)

function specOf(v: Values): Spec {
  const digests = v.hours ? v.outside === 'digest' : v.digests
  return {
    name: v.name.trim(),
    everywhere: v.everywhere || undefined,
    severities: some(v.severities) as Spec['severities'],
    about: some(v.about) as Spec['about'],
    check_kinds: some(v.check_kinds),
    tags: some(v.tags.split(',').map((t) => t.trim()).filter(Boolean)),
    steps: v.steps.map((s) => ({ after_s: seconds(s.after, 60) ?? 0, tell: s.tell.map(recipientOf), by: s.by ? [s.by as 'mail'] : undefined, repeat_s: seconds(s.repeat, 60), most: seconds(s.most, 1) })),
    no_all_clear: !v.all_clear || undefined,
    remind_s: seconds(v.remind, 3600),
    selections: some(v.selections),
    agreed: v.agreed || undefined,
    hours: v.hours ?? undefined,
    outside: v.hours && v.outside !== 'wait' ? v.outside : undefined,
    instead: v.hours && v.outside === 'plan' ? v.instead : undefined,
    digest: digests ? { timezone: v.digest_zone, at: v.digest_at.split(',').map((t) => t.trim()).filter(Boolean), days: some(v.digest_days) as Schemas['Digest']['days'] } : undefined,
    most_per_hour: seconds(v.most_per_hour, 1),
    note: v.note || undefined,
  }
}

/** A notice plan: its steps, for what, and what it says in sentences beside. */
export function PlanPage() {
  const { id } = useParams()
  const plans = usePlans()
  if (!plans.data) return <Awaited error={plans.error} />
  const plan = plans.data.find((p) => p.id === id)
  if (id && !plan) return <div className="empty">There is no notice plan {id}.</div>
  return (
    <>
      <NoticesNav />
      <Form key={plan?.id ?? ''} plan={plan} others={plans.data.filter((p) => p.id !== id && !p.retired && p.spec.outside !== 'plan')} />
    </>
  )
}

function Form({ plan, others }: { plan: Plan | undefined; others: Plan[] }) {
  const { home } = useZone()
  const fresh = { ...valuesOf(plan?.spec), digest_zone: plan?.spec.digest?.timezone ?? home }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, plan?.revision ?? 0, { draft: `notice-plans/${plan?.id ?? 'new'}` })
  const steps = useFieldArray({ control: form.control, name: 'steps' })
  const receivers = useReceivers()
  const kinds = useKinds().data ?? []
  const navigate = useNavigate()
  const keep = useKeep()
  const selections = useSelected().data ?? []
  const may = useMayDefineForAll() && !plan?.retired
  const save = useSaving({ of: 'notice-plans', entry: plan, form, kept, spec: specOf, names: faults(steps.fields.length), done: (id) => navigate(keep(plan ? '/notices/plans' : `/notices/plans/${id}`)) })
  const now = form.watch()
  const err = form.formState.errors
  return (
    <div className="with-aside">
      <form className="form wide" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
        <div className="head">
          <Typography variant="h1">{plan ? plan.spec.name : 'A new notice plan'}</Typography>
        </div>
        <KeptNote kept={kept} of={plan && { path: 'notice-plans', id: plan.id }} />
        <fieldset disabled={!may}>
          <legend>Whom, and when</legend>
          <TextField label="Name" required autoFocus={!plan} error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
          {steps.fields.map((f, i) => (
            <StepFields key={f.id} i={i} form={form} many={steps.fields.length > 1} out={() => steps.remove(i)} />
          ))}
          <div>
            <Button onClick={() => steps.append({ after: String((Number(decimal(now.steps.at(-1)?.after ?? '')) || 0) + 15), tell: [], by: '', repeat: '', most: '' })}>Add a step</Button>
          </div>
          {err.root?.steps && <Trouble error={new Error(err.root.steps.message)} />}
        </fieldset>
        <fieldset disabled={!may}>
          <legend>Afterwards</legend>
          <FormControlLabel label="Those who were told are told that it is over" control={<Controller control={form.control} name="all_clear" render={({ field }) => <Checkbox size="small" checked={field.value} onChange={field.onChange} />} />} />
          <div className="side">
            <TextField label="Remind who acknowledged it every (h)" error={Boolean(err.remind)} helperText={err.remind?.message ?? 'Empty: never'} {...form.register('remind', { validate: validAmount })} />
            <TextField label="Incidents an hour, at most" error={Boolean(err.most_per_hour)} helperText={err.most_per_hour?.message ?? 'The rest is summed up; empty: no bound'} {...form.register('most_per_hour', { validate: validAmount })} />
          </div>
        </fieldset>
        <fieldset disabled={!may}>
          <legend>For what</legend>
          <Controller
            control={form.control}
            name="everywhere"
            render={({ field }) => (
              <TextField select label="It is for" value={field.value ? 'all' : 'named'} onChange={(e) => field.onChange(e.target.value === 'all')}>
                <MenuItem value="named">incidents of services that name it, or whose team does</MenuItem>
                <MenuItem value="all">all incidents that meet the conditions</MenuItem>
              </TextField>
            )}
          />
          <div className="side">
            <Several control={form.control} name="severities" label="How severe" of={{ critical: 'critical', major: 'major', minor: 'minor' }} />
            <Several control={form.control} name="about" label="About" of={{ service: 'services', check: 'checks that inform', location: 'locations', agreement: 'allowances' }} />
            <Several control={form.control} name="check_kinds" label="Kinds of check" of={Object.fromEntries(kinds.map((k) => [k.name, k.name]))} />
          </div>
          <div className="side">
            <TextField label="Tags of the service" error={Boolean(err.tags)} helperText={err.tags?.message ?? 'With commas between them; empty: any'} {...form.register('tags')} />
            <Several control={form.control} name="selections" label="In the selections" of={Object.fromEntries(selections.map((s) => [s.id ?? '', s.name]))} />
          </div>
        </fieldset>
        <fieldset disabled={!may}>
          <legend>In which hours</legend>
          <Controller
            control={form.control}
            name="agreed"
            render={({ field }) => (
              <TextField select label="Of the service" {...field} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} error={Boolean(err.agreed)} helperText={err.agreed?.message}>
                <MenuItem value="">at any time</MenuItem>
                <MenuItem value="inside">in service hours of one of its agreements</MenuItem>
                <MenuItem value="outside">outside all of its service hours</MenuItem>
              </TextField>
            )}
          />
          <Controller control={form.control} name="hours" render={({ field }) => <Week label="Tell within some hours" value={field.value ?? undefined} change={(w) => field.onChange(w ?? null)} zone={home} error={err.hours?.message} />} />
          <Outside form={form} others={others} />
          <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
        </fieldset>
        <Trouble error={save.error} />
        <Box sx={{ display: 'flex', gap: '12px' }}>
          {may && (
            <Button type="submit" variant="contained" disabled={save.isPending}>
              {plan ? `Save as revision ${plan.revision + 1}` : 'Add the plan'}
            </Button>
          )}
          <Button variant="text" component={Link} to={keep('/notices/plans')}>
            Leave it
          </Button>
        </Box>
        {plan && <Revisions path="notice-plans" id={plan.id} />}
      </form>
      <Box component="aside" sx={{ paddingTop: '26px' }} aria-label="In sentences">
        <Typography variant="h2">What it says</Typography>
        <ul className="sentences" data-sentences>
          {sentences(specOf(now), { receiver: receivers.name, plan: (id) => others.find((p) => p.id === id)?.spec.name ?? 'another plan', selection: (id) => selections.find((s) => s.id === id)?.name ?? id }).map((s) => (
            <li key={s}>{s}</li>
          ))}
        </ul>
        <p className="sub">
          The clock of its steps stands still while somebody has acknowledged the incident, in planned work, and while it follows from another one. <Link to={keep('/notices/rehearsal')}>Rehearse a failure</Link> once it is saved.
        </p>
      </Box>
    </div>
  )
}

/** Where the faults of steps stand: the server speaks of seconds and of receivers one by one. */
function faults(n: number): Record<string, string> {
  const out: Record<string, string> = { 'digest.at': 'digest_at', 'digest.at[': 'digest_at', 'digest.days[': 'digest_days', 'digest.timezone': 'digest_zone', digest: 'outside', 'selections[': 'selections', 'tags[': 'tags', 'hours.': 'hours', remind_s: 'remind', steps: 'root.steps' }
  for (let i = 0; i < n; i++) {
    out[`steps[${i}].after_s`] = `steps.${i}.after`
    out[`steps[${i}].repeat_s`] = `steps.${i}.repeat`
    out[`steps[${i}].most`] = `steps.${i}.most`
    out[`steps[${i}].tell`] = `steps.${i}.tell`
    out[`steps[${i}].tell[`] = `steps.${i}.tell`
  }
  return out
}

/** What becomes of what is due outside the hours, and when digests are sent. */
function Outside({ form, others }: { form: UseFormReturn<Values>; others: Plan[] }) {
  const v = form.watch()
  const err = form.formState.errors
  const digests = v.hours ? v.outside === 'digest' : v.digests
  return (
    <>
      {v.hours ? (
        <div className="side">
          <Controller
            control={form.control}
            name="outside"
            render={({ field }) => (
              <TextField select label="What is due outside them" {...field} error={Boolean(err.outside)} helperText={err.outside?.message}>
                <MenuItem value="wait">waits for them</MenuItem>
                <MenuItem value="digest">stands in the next digest</MenuItem>
                <MenuItem value="plan">is left to another plan</MenuItem>
              </TextField>
            )}
          />
          {v.outside === 'plan' && <Controller control={form.control} name="instead" rules={{ required: 'Say which' }} render={({ field }) => <Pick label="That plan" required value={field.value} change={field.onChange} of={others.map((p) => ({ id: p.id, name: p.spec.name }))} error={err.instead?.message} help="It tells what has not ended, by its own steps" />} />}
        </div>
      ) : (
        <FormControlLabel label="Tell nothing at once, but all in digests" control={<Controller control={form.control} name="digests" render={({ field }) => <Checkbox size="small" checked={field.value} onChange={field.onChange} />} />} />
      )}
      {digests && (
        <div className="side">
          <TextField label="Digests at" required placeholder="07:30, 16:00" error={Boolean(err.digest_at)} helperText={err.digest_at?.message ?? 'Times, with commas between them'} {...form.register('digest_at', { validate: (t) => t.trim() !== '' || 'Say when' })} />
          <Controller
            control={form.control}
            name="digest_days"
            render={({ field }) => (
              <TextField select label="On" value={field.value} onChange={field.onChange} slotProps={{ select: { multiple: true, displayEmpty: true, renderValue: (d) => (d as string[]).map((x) => dayNames[x]).join(', ') || 'every day' }, inputLabel: { shrink: true } }}>
                {Object.entries(dayNames).map(([d, name]) => (
                  <MenuItem key={d} value={d}>
                    {name}
                  </MenuItem>
                ))}
              </TextField>
            )}
          />
          <TextField label="On the clocks of" error={Boolean(err.digest_zone)} helperText={err.digest_zone?.message} {...form.register('digest_zone')} />
        </div>
      )}
    </>
  )
}

function StepFields({ i, form, many, out }: { i: number; form: UseFormReturn<Values>; many: boolean; out: () => void }) {
  const err = form.formState.errors.steps?.[i]
  const repeats = form.watch(`steps.${i}.repeat`)
  return (
    <div role="group" aria-label={`Step ${i + 1}`} data-step={i + 1} className="step">
      <div className="when-whom">
        <TextField label="After (min)" error={Boolean(err?.after)} helperText={err?.after?.message} {...form.register(`steps.${i}.after`, { validate: validAmount })} />
        <Controller
          control={form.control}
          name={`steps.${i}.tell`}
          rules={{ validate: (list) => list.length > 0 || 'Say whom' }}
          render={({ field }) => <ReceiversPick value={field.value} change={field.onChange} ref={field.ref} error={err?.tell?.message} />}
        />
      </div>
      <div className="side">
        <Controller
          control={form.control}
          name={`steps.${i}.by`}
          render={({ field }) => (
            <TextField select label="People by" value={field.value} onChange={field.onChange} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
              <MenuItem value="">all they have</MenuItem>
              <MenuItem value="mail">e-mail</MenuItem>
              <MenuItem value="sms">SMS</MenuItem>
            </TextField>
          )}
        />
        <TextField label="Again every (min)" error={Boolean(err?.repeat)} helperText={err?.repeat?.message ?? (repeats.trim() === '' ? 'Empty: once' : undefined)} {...form.register(`steps.${i}.repeat`, { validate: validAmount })} />
        <TextField label="Times, at most" disabled={repeats.trim() === ''} error={Boolean(err?.most)} helperText={err?.most?.message} {...form.register(`steps.${i}.most`, { validate: validAmount })} />
        {many && (
          <Button variant="text" onClick={out} aria-label={`Take out step ${i + 1}`}>
            Take out
          </Button>
        )}
      </div>
    </div>
  )
}

function Several({ control, name, label, of }: { control: Control<Values>; name: 'severities' | 'about' | 'check_kinds' | 'selections'; label: string; of: Record<string, string> }) {
  return (
    <Controller
      control={control}
      name={name}
      render={({ field }) => (
        <TextField select label={label} value={field.value} onChange={field.onChange} slotProps={{ select: { multiple: true, displayEmpty: true, renderValue: (v) => (v as string[]).map((k) => of[k] ?? k).join(', ') || 'any' }, inputLabel: { shrink: true } }}>
          {Object.entries(of).map(([v, text]) => (
            <MenuItem key={v} value={v}>
              {text}
            </MenuItem>
          ))}
        </TextField>
      )}
    />
  )
}
