import Autocomplete from '@mui/material/Autocomplete'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, type Control } from 'react-hook-form'
import { Link } from 'react-router'
import { type Schemas } from '../api/client'
import { useChecks, useKinds, useParties, useSelected, useServices } from '../api/queries'
import { counted } from '../parts/counted'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { usePartyName } from '../parts/party'
import { useSaving } from '../parts/save'
import { ServicesPick } from '../parts/services-pick'
import { useSettled } from '../parts/settled'
import { Awaited } from '../parts/trouble'
import { kinds as checkKinds } from '../services/kinds'
import { useKeep } from '../time/span'
import { Listing } from './listing'
import { useSelections, useWouldTake } from './queries'

type Selection = Schemas['DefinedSelectionSpec']
type Spec = Schemas['SelectionSpec']
type Values = { name: string; of: Spec['of']; services: string[]; kinds: string[]; owners: string[]; tags: string[]; check_kinds: string[]; note: string }

const serviceKinds = { business: 'business', supporting: 'supporting', supplier: 'supplier' }

/** What a selection takes, in words. */
function wordsOf(s: Spec, team: (id: string) => string): string {
  const parts = [
    s.check_kinds?.length ? `of the kind ${s.check_kinds.join(' or ')}` : '',
    s.kinds?.length ? `of ${s.kinds.join(' or ')} services` : '',
    s.tags?.length ? `tagged ${s.tags.join(' or ')}` : '',
    s.services?.length ? `of ${s.services.length === 1 ? '1 service' : `${s.services.length} services`} by name` : '',
    s.owners?.length ? `owned by ${s.owners.map(team).join(' or ')}` : '',
  ]
  return [s.of === 'checks' ? 'Checks' : 'Services', ...parts.filter(Boolean)].join(' ')
}

/** Saved filters over services and checks. */
export function Selections() {
  const list = useSelections()
  const members = useSelected()
  const team = usePartyName('team')
  const keep = useKeep()
  if (!list.data) return <Awaited error={list.error} />
  const takes = (id: string) => members.data?.find((m) => m.id === id)
  return (
    <Listing<Selection>
      title="Selections"
      one="selection"
      note="Filters over services or checks that are kept under a name: what is added or changed later is taken by them too. Notice plans can be for one, lists show one, and work is planned on all that one takes."
      list={list.data}
      columns={['Name', 'Takes', 'Now']}
      cells={(s) => {
        const now = takes(s.id)
        const of = s.spec.of
        return [
          <>
            <b>{s.spec.name}</b>
            {s.spec.note && <div className="sub">{s.spec.note}</div>}
          </>,
          wordsOf(s.spec, team),
          now && !s.retired ? <Link to={keep(`/${of}?selection=${s.id}`)}>{of === 'checks' ? counted(now.checks.length, 'check') : counted(now.services.length, 'service')}</Link> : '',
        ]
      }}
      form={(s, done) => <SelectionForm selection={s} done={done} />}
      of="selections"
    />
  )
}

const some = <T,>(list: T[]) => (list.length ? list : undefined)

function specOf(v: Values): Spec {
  return { name: v.name, of: v.of, services: some(v.services), kinds: some(v.kinds) as Spec['kinds'], owners: some(v.owners), tags: some(v.tags), check_kinds: v.of === 'checks' ? some(v.check_kinds) : undefined, note: v.note || undefined }
}

function SelectionForm({ selection, done }: { selection?: Selection; done: () => void }) {
  const s = selection?.spec
  const fresh: Values = { name: s?.name ?? '', of: s?.of ?? 'services', services: s?.services ?? [], kinds: s?.kinds ?? [], owners: s?.owners ?? [], tags: s?.tags ?? [], check_kinds: s?.check_kinds ?? [], note: s?.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, selection?.revision ?? 0, { draft: `selections/${selection?.id ?? 'new'}` })
  const save = useSaving({ of: 'selections', entry: selection, form, kept, spec: specOf, names: { 'services[': 'services', 'kinds[': 'kinds', 'owners[': 'owners', 'tags[': 'tags', 'check_kinds[': 'check_kinds' }, done })
  const services = useServices().data ?? []
  const teams = (useParties('team').data ?? []).filter((t) => !t.retired)
  const kinds = useKinds().data ?? []
  const v = form.watch()
  const err = form.formState.errors
  const tags = [...new Set(services.filter((x) => !x.retired).flatMap((x) => x.spec.tags ?? []))].sort()
  return (
    <form className="form in-place" aria-label="Selection" onSubmit={(e) => void form.handleSubmit((x) => save.mutate(x))(e)}>
      <KeptNote kept={kept} of={selection && { path: 'selections', id: selection.id }} />
      <div className="side">
        <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
        <Controller
          control={form.control}
          name="of"
          render={({ field }) => (
            <TextField select label="Takes" {...field} error={Boolean(err.of)} helperText={err.of?.message ?? 'all that meet each condition'}>
              <MenuItem value="services">services</MenuItem>
              <MenuItem value="checks">checks</MenuItem>
            </TextField>
          )}
        />
      </div>
      {v.of === 'checks' && <AnyOf control={form.control} name="check_kinds" label="Kind of check" of={Object.fromEntries(kinds.map((k) => [k.name, checkKinds[k.name as keyof typeof checkKinds].word]))} error={err.check_kinds?.message} />}
      <AnyOf control={form.control} name="tags" label="Tag of the service" of={Object.fromEntries([...tags, ...fresh.tags].map((t) => [t, t]))} error={err.tags?.message} />
      <AnyOf control={form.control} name="owners" label="Its owner" of={Object.fromEntries(teams.map((t) => [t.id, t.spec.name]))} error={err.owners?.message} />
      <AnyOf control={form.control} name="kinds" label="Its kind" of={serviceKinds} error={err.kinds?.message} />
      <Controller control={form.control} name="services" render={({ field }) => <ServicesPick label="It is" value={field.value} change={field.onChange} ref={field.ref} error={err.services?.message} help={field.value.length > 1 ? 'one of these' : field.value.length ? undefined : 'none: any'} />} />
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <Takes spec={specOf({ ...v, name: v.name.trim() || 'Selection' })} />
      <FormEnd error={save.error} busy={save.isPending} save={selection ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}

function AnyOf({ control, name, label, of, error }: { control: Control<Values>; name: 'kinds' | 'owners' | 'tags' | 'check_kinds'; label: string; of: Record<string, string>; error?: string }) {
  return (
    <Controller
      control={control}
      name={name}
      render={({ field }) => (
        <Autocomplete
          multiple
          options={Object.keys(of)}
          value={field.value}
          getOptionLabel={(id) => of[id] ?? id}
          noOptionsText="None of that name"
          onChange={(_, list) => field.onChange(list)}
          renderInput={(p) => <TextField {...p} label={label} inputRef={field.ref} error={Boolean(error)} helperText={error ?? (field.value.length > 1 ? 'one of these' : field.value.length ? undefined : 'none: any')} />}
        />
      )}
    />
  )
}

/** What it would take, as it stands in the form. */
function Takes({ spec }: { spec: Spec }) {
  const narrows = Boolean(spec.services ?? spec.kinds ?? spec.owners ?? spec.tags ?? spec.check_kinds)
  const settled = useSettled(spec, JSON.stringify(spec), 300)
  const preview = useWouldTake(settled, narrows)
  const services = useServices().data ?? []
  const checks = useChecks().data ?? []
  if (!narrows) return <p className="sub">Say a condition, and what it takes stands here.</p>
  const v = preview.data
  if (!v) return null
  const ids = spec.of === 'checks' ? v.checks : v.services
  const names = ids.map((id) => (spec.of === 'checks' ? checks.find((c) => c.id === id)?.spec.name : services.find((x) => x.id === id)?.spec.name) ?? id)
  return (
    <p className="sub" aria-live="polite" data-takes={ids.length}>
      It takes {counted(ids.length, spec.of === 'checks' ? 'check' : 'service')} now{names.length > 0 && `: ${names.slice(0, 12).join(', ')}`}
      {names.length > 12 && ` and ${names.length - 12} more`}.
    </p>
  )
}
