import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useForm } from 'react-hook-form'
import { api, ask, type Schemas } from '../api/client'
import { useAudit, useMe, usePeople } from '../api/queries'
import { Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/period'
import { SetupHead } from './head'

const roles = ['administrator', 'manager', 'operator', 'viewer'] as const

/** Who may sign in, and who changed what. */
export function People() {
  const me = useMe()
  return (
    <>
      <SetupHead title="People and changes" />
      {me.data?.role === 'administrator' && <Organisation name={me.data.organisation} timezone={me.data.timezone} />}
      {me.data?.role === 'administrator' && <PeopleTable />}
      <Changes />
    </>
  )
}

/** What the organisation is called, and the zone of its months. */
function Organisation(now: Schemas['Naming']) {
  const form = useForm<Schemas['Naming']>({ values: now, resetOptions: { keepDirtyValues: true } })
  const client = useQueryClient()
  const save = useMutation({
    mutationFn: (body: Schemas['Naming']) => ask(api.PUT('/api/v1/organisation', { body })),
    onSuccess: async (_, body) => {
      form.reset(body)
      await client.invalidateQueries()
    },
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <form className="in-a-row" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)} aria-label="Organisation">
      <TextField label="Organisation" required sx={{ width: 260 }} error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <TextField label="Zone of its months" required sx={{ width: 220 }} error={Boolean(err.timezone)} helperText={err.timezone?.message ?? 'An IANA name such as Europe/Oslo'} {...form.register('timezone')} />
      <Button type="submit" sx={{ height: 40 }} disabled={!form.formState.isDirty || save.isPending}>
        Save
      </Button>
      <Trouble error={save.error} />
    </form>
  )
}

function PeopleTable() {
  const people = usePeople()
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: ({ id, body }: { id: string; body: Schemas['PersonChange'] }) => ask(api.PUT('/api/v1/people/{id}', { params: { path: { id } }, body })),
    onSettled: () => client.invalidateQueries({ queryKey: ['people'] }),
  })
  return (
    <section style={{ maxWidth: 900 }}>
      <Trouble error={people.error ?? change.error} />
      <table className="plain">
        <thead>
          <tr>
            <th>Name</th>
            <th>E-mail</th>
            <th>Role</th>
            <th>May sign in</th>
          </tr>
        </thead>
        <tbody>
          {people.data?.map((p) => {
            const body = { name: p.name, role: p.role, disabled: Boolean(p.disabled_at) }
            return (
              <tr key={p.id}>
                <td>{p.name}</td>
                <td>{p.email}</td>
                <td>
                  <TextField select variant="standard" value={p.role} sx={{ width: 150 }} slotProps={{ htmlInput: { 'aria-label': `Role of ${p.name}` } }} onChange={(e) => change.mutate({ id: p.id, body: { ...body, role: e.target.value as Schemas['PersonChange']['role'] } })}>
                    {roles.map((r) => (
                      <MenuItem key={r} value={r}>
                        {r}
                      </MenuItem>
                    ))}
                  </TextField>
                </td>
                <td>
                  <button type="button" className="link" onClick={() => change.mutate({ id: p.id, body: { ...body, disabled: !p.disabled_at } })}>
                    {p.disabled_at ? 'no; allow it' : 'yes; stop it'}
                  </button>
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      <NewPerson />
    </section>
  )
}

function NewPerson() {
  const form = useForm<Schemas['NewPerson']>({ defaultValues: { role: 'viewer' } })
  const client = useQueryClient()
  const add = useMutation({
    mutationFn: (body: Schemas['NewPerson']) => ask(api.POST('/api/v1/people', { body })),
    onSuccess: async () => {
      form.reset()
      await client.invalidateQueries({ queryKey: ['people'] })
    },
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <form className="in-a-row" onSubmit={(e) => void form.handleSubmit((v) => add.mutate(v))(e)}>
      <TextField label="Name" required sx={{ width: 170 }} {...form.register('name')} />
      <TextField label="E-mail" type="email" required sx={{ width: 220 }} error={Boolean(err.email)} helperText={err.email?.message} {...form.register('email')} />
      <TextField select label="Role" defaultValue="viewer" sx={{ width: 150 }} {...form.register('role')}>
        {roles.map((r) => (
          <MenuItem key={r} value={r}>
            {r}
          </MenuItem>
        ))}
      </TextField>
      <TextField label="First password" type="password" required autoComplete="new-password" sx={{ width: 180 }} error={Boolean(err.password)} helperText={err.password?.message ?? 'At least 10 characters'} {...form.register('password')} />
      <Button type="submit" sx={{ height: 40 }} disabled={add.isPending}>
        Let them sign in
      </Button>
      <Trouble error={add.error} />
    </form>
  )
}

function Changes() {
  const audit = useAudit()
  const { zone } = useZone()
  return (
    <section style={{ maxWidth: 900, marginTop: 18 }}>
      <h2>Latest changes</h2>
      <Trouble error={audit.error} />
      <table className="plain">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>Did</th>
            <th>What</th>
          </tr>
        </thead>
        <tbody>
          {audit.data?.slice(0, 60).map((a) => (
            <tr key={a.at + a.subject}>
              <td>{shortTime(a.at, zone)}</td>
              <td>{a.person}</td>
              <td>{a.action}</td>
              <td>{a.subject}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
