import Autocomplete from '@mui/material/Autocomplete'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller } from 'react-hook-form'
import { Link } from 'react-router'
import { useNoticePeople, usePools, type Pool } from '../notices/queries'
import { listed } from '../notices/words'
import { Day, wholeDay } from '../parts/day'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { Awaited } from '../parts/trouble'
import { useKeep, useZone } from '../time/span'
import { Listing } from './listing'

type Values = { name: string; members: string[]; every: '' | 'day' | 'week'; weekday: string; at: string; from: string; timezone: string; note: string }

const days: Record<string, string> = { MO: 'Monday', TU: 'Tuesday', WE: 'Wednesday', TH: 'Thursday', FR: 'Friday', SA: 'Saturday', SU: 'Sunday' }

/** People who can be told together, or of whom one at a time is on duty. */
export function Pools() {
  const pools = usePools()
  const people = useNoticePeople()
  const keep = useKeep()
  if (!pools.data || !people.data) return <Awaited error={pools.error ?? people.error} />
  const name = (id: string) => people.data.find((p) => p.id === id)?.name ?? 'somebody who is gone'
  return (
    <Listing<Pool>
      title="Pools"
      one="pool"
      note="People who can be told together, or of whom one at a time is on duty. Notice plans tell pools. Duty is handed over for a while under Notices."
      list={pools.data}
      columns={['Pool', 'Members', 'Duty']}
      cells={(p) => {
        const r = p.spec.rotation
        return [
          <>
            {p.spec.name}
            {p.spec.note && <div className="sub">{p.spec.note}</div>}
          </>,
          listed(p.spec.members.map(name)),
          r ? (
            <>
              goes round every {r.every}, {r.every === 'week' ? `${days[r.weekday ?? 'MO'] ?? ''} ` : ''}
              {r.at}, {r.timezone}
              {(p.spec.overrides ?? []).length > 0 && (
                <div className="sub">
                  {p.spec.overrides?.length} hand-overs, <Link to={keep('/notices')}>see Notices</Link>
                </div>
              )}
            </>
          ) : (
            'all are told'
          ),
        ]
      }}
      form={(p, done) => <PoolForm pool={p} done={done} />}
      of="pools"
    />
  )
}

function PoolForm({ pool, done }: { pool?: Pool; done: () => void }) {
  const { home } = useZone()
  const r = pool?.spec.rotation
  const fresh: Values = { name: pool?.spec.name ?? '', members: pool?.spec.members ?? [], every: r?.every ?? '', weekday: r?.weekday ?? 'MO', at: r?.at ?? '08:00', from: r?.from ?? '', timezone: r?.timezone ?? home, note: pool?.spec.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, pool?.revision ?? 0, { draft: `pools/${pool?.id ?? 'new'}` })
  const people = useNoticePeople().data ?? []
  const save = useSaving({
    of: 'pools',
    entry: pool,
    form,
    kept,
    spec: (v) => ({
      name: v.name,
      members: v.members,
      rotation: v.every ? { every: v.every, weekday: v.every === 'week' ? v.weekday : undefined, at: v.at, from: v.from, timezone: v.timezone } : undefined,
      overrides: v.every ? pool?.spec.overrides : undefined,
      note: v.note || undefined,
    }),
    names: { 'members[': 'members', 'rotation.': '' },
    done,
  })
  const every = form.watch('every')
  const err = form.formState.errors
  return (
    <form className="form in-place" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={pool && { path: 'pools', id: pool.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <Controller
        control={form.control}
        name="members"
        render={({ field }) => (
          <Autocomplete
            multiple
            options={people.map((p) => p.id)}
            value={field.value}
            getOptionLabel={(id) => people.find((p) => p.id === id)?.name ?? 'somebody who is gone'}
            noOptionsText="Nobody of that name"
            onChange={(_, ids) => field.onChange(ids)}
            renderInput={(params) => <TextField {...params} label="Members" inputRef={field.ref} error={Boolean(err.members)} helperText={err.members?.message ?? 'In the order in which they take their turns'} />}
          />
        )}
      />
      <Controller
        control={form.control}
        name="every"
        render={({ field }) => (
          <TextField select label="Duty" value={field.value} onChange={field.onChange} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            <MenuItem value="">all are told together</MenuItem>
            <MenuItem value="week">one at a time, by the week</MenuItem>
            <MenuItem value="day">one at a time, by the day</MenuItem>
          </TextField>
        )}
      />
      {every && (
        <div className="side">
          {every === 'week' && (
            <Controller
              control={form.control}
              name="weekday"
              render={({ field }) => (
                <TextField select label="Handed over on" value={field.value} onChange={field.onChange} error={Boolean(err.weekday)} helperText={err.weekday?.message}>
                  {Object.entries(days).map(([d, name]) => (
                    <MenuItem key={d} value={d}>
                      {name}
                    </MenuItem>
                  ))}
                </TextField>
              )}
            />
          )}
          <TextField label="At" error={Boolean(err.at)} helperText={err.at?.message ?? 'As 08:00'} {...form.register('at')} />
          <Controller control={form.control} name="from" rules={{ validate: wholeDay }} render={({ field }) => <Day label="The first is on duty from" value={field.value} change={field.onChange} zone={home} error={err.from?.message} field={field} required />} />
          <TextField label="On the clocks of" error={Boolean(err.timezone)} helperText={err.timezone?.message} {...form.register('timezone')} />
        </div>
      )}
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={pool ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}
