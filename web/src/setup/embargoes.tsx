import TextField from '@mui/material/TextField'
import { Controller } from 'react-hook-form'
import type { Schemas } from '../api/client'
import { useServices } from '../api/queries'
import { useEmbargoes } from '../calendar/queries'
import { Minute, noDate } from '../parts/day'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { ServicesPick } from '../parts/services-pick'
import { Awaited } from '../parts/trouble'
import { useZone } from '../time/span'
import { minuteIn, wallIn } from '../time/format'
import { Listing } from './listing'

type Embargo = Schemas['DefinedEmbargoSpec']
type Values = { name: string; services: string[]; from: string; to: string; note: string }

/** Times in which nothing is to be planned. */
export function Embargoes() {
  const list = useEmbargoes()
  const services = useServices()
  if (!list.data) return <Awaited error={list.error} />
  const name = (id: string) => services.data?.find((s) => s.id === id)?.spec.name ?? id
  return (
    <Listing<Embargo>
      title="Embargoes"
      one="embargo"
      note="Times in which nothing is to be planned, as a holiday weekend. Work that is planned in one all the same has to say why; emergency work does not. What was planned before stays, and the Calendar shows the clash."
      list={list.data}
      columns={['Name', 'From', 'To', 'For']}
      cells={(e) => [
        <>
          <b>{e.spec.name}</b>
          {e.spec.note && <div className="sub">{e.spec.note}</div>}
        </>,
        minuteIn(e.spec.from),
        <>
          {minuteIn(e.spec.to)} <span className="sub">{e.spec.timezone}</span>
        </>,
        e.spec.services?.length ? e.spec.services.map(name).join(', ') : 'all services',
      ]}
      form={(e, done) => <EmbargoForm embargo={e} done={done} />}
      of="embargoes"
    />
  )
}

function EmbargoForm({ embargo, done }: { embargo?: Embargo; done: () => void }) {
  const { home } = useZone()
  const spec = embargo?.spec
  const zone = spec?.timezone ?? home
  const fresh: Values = { name: spec?.name ?? '', services: spec?.services ?? [], from: spec ? minuteIn(spec.from) : '', to: spec ? minuteIn(spec.to) : '', note: spec?.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, embargo?.revision ?? 0, { draft: `embargoes/${embargo?.id ?? 'new'}` })
  const save = useSaving({
    of: 'embargoes',
    entry: embargo,
    form,
    kept,
    spec: (v) => ({ name: v.name, services: v.services.length ? v.services : undefined, from: wallIn(v.from, spec?.from), to: wallIn(v.to, spec?.to), timezone: zone, note: v.note || undefined }),
    names: { 'services[': 'services' },
    done,
  })
  const err = form.formState.errors
  const finished = (v: string) => (v !== '' && v !== noDate) || 'Say the day and the time'
  return (
    <form className="form in-place" aria-label="Embargo" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={embargo && { path: 'embargoes', id: embargo.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <div className="side">
        <Controller control={form.control} name="from" rules={{ validate: finished }} render={({ field }) => <Minute label="From" value={field.value} change={field.onChange} zone={zone} required error={err.from?.message} help={zone} field={field} />} />
        <Controller control={form.control} name="to" rules={{ validate: finished }} render={({ field }) => <Minute label="To" value={field.value} change={field.onChange} zone={zone} required error={err.to?.message} field={field} />} />
      </div>
      <Controller
        control={form.control}
        name="services"
        render={({ field }) => (
          <ServicesPick label="For" value={field.value} change={field.onChange} ref={field.ref} error={err.services?.message} help="none: all services" />
        )}
      />
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={embargo ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}
