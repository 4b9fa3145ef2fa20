import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Link as To } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMe, usePeople } from '../api/queries'
import { useForm } from '../parts/form'
import { Confirm, Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { SetupHead } from './head'
import { RightsFields, type Rights } from './rights'

/** Who may sign in, and what they need for it. */
export function People() {
  const me = useMe()
  return (
    <>
      <SetupHead title="People" />
      {me.data && <Organisation name={me.data.organisation} timezone={me.data.timezone} />}
      {me.data && <Required required={me.data.second_factor_required} own={me.data.second_factor} />}
      {me.data && <PeopleTable me={me.data.id} />}
    </>
  )
}

/** What the organisation is called, and the zone of its months. */
function Organisation(now: Schemas['Naming']) {
  const form = useForm<Schemas['Naming']>({ values: now, resetOptions: { keepDirtyValues: true } })
  const save = useChange({
    mutationFn: (body: Schemas['Naming']) => ask(api.PUT('/api/v1/organisation', { body })),
    again: 'all',
    unawaited: true,
    onSuccess: (_, body) => form.reset(body),
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

/** Whether everybody needs a second factor. */
function Required({ required, own }: { required: boolean; own: boolean }) {
  const set = useChange({
    mutationFn: (second_factor_required: boolean) => ask(api.PUT('/api/v1/organisation/security', { body: { second_factor_required } })),
    again: ['me'],
  })
  return (
    <div>
      <FormControlLabel control={<Checkbox checked={required} disabled={set.isPending || (!own && !required)} onChange={(e) => set.mutate(e.target.checked)} />} label="Everybody needs a second factor" />
      <span className="sub">
        {own || required ? (
          'Who has none can sign in only to set one up.'
        ) : (
          <>
            Set up <To to="/you">your own</To> first.
          </>
        )}
      </span>
      <Trouble error={set.error} />
    </div>
  )
}

type Person = Schemas['PersonView']

function PeopleTable({ me }: { me: string }) {
  const people = usePeople()
  const [link, setLink] = useState<{ name: string; link: Schemas['PasswordLink'] } | undefined>()
  return (
    <Box component="section" sx={{ maxWidth: '1000px' }}>
      <Trouble error={people.error} />
      {link && <LinkShown {...link} done={() => setLink(undefined)} />}
      <Table>
        <TableHead>
          <TableRow>
            <TableCell>Name</TableCell>
            <TableCell>E-mail</TableCell>
            <TableCell>Role</TableCell>
            <TableCell>Signs in with</TableCell>
            <TableCell>Signed in</TableCell>
            <TableCell>May sign in</TableCell>
            <TableCell aria-hidden />
          </TableRow>
        </TableHead>
        <TableBody>
          {people.data?.map((p) => (
            <PersonRow key={p.id} person={p} self={p.id === me} show={setLink} />
          ))}
        </TableBody>
      </Table>
      <NewPerson show={setLink} />
    </Box>
  )
}

/** A one-time link, to be handed over in some other way. */
function LinkShown({ name, link, done }: { name: string; link: Schemas['PasswordLink']; done: () => void }) {
  const { zone } = useZone()
  const address = window.location.origin + link.path
  return (
    <div role="status" className="handed">
      <p>
        By this link {name} chooses a password, once, until {shortTime(link.expires_at, zone)}. It is shown now and never again: hand it over yourself.
      </p>
      <p>
        <code data-link>
          {address}
        </code>
        <button type="button" className="link" onClick={() => void navigator.clipboard.writeText(address)}>
          copy
        </button>
        <button type="button" className="link" onClick={done}>
          done
        </button>
      </p>
    </div>
  )
}

function PersonRow({ person: p, self, show }: { person: Person; self: boolean; show: (l: { name: string; link: Schemas['PasswordLink'] }) => void }) {
  const { zone } = useZone()
  const [menu, setMenu] = useState<HTMLElement | null>(null)
  const [sure, setSure] = useState(false)
  const act = useChange({ mutationFn: (does: () => Promise<unknown>) => does(), again: ['people'] })
  const path = { params: { path: { id: p.id } } }
  const [asked, setAsked] = useState<Rights>() // a choice that is not complete
  const body = { name: p.name, role: p.role, customer: p.customer, teams: p.teams, disabled: Boolean(p.disabled_at) }
  const change = (more: Partial<Schemas['PersonChange']>) => act.mutate(() => ask(api.PUT('/api/v1/people/{id}', { ...path, body: { ...body, ...more } })), { onSettled: () => setAsked(undefined) })
  const choose = (does: () => Promise<unknown>) => {
    setMenu(null)
    act.mutate(does)
  }
  return (
    <TableRow data-person={p.email}>
      <TableCell>{p.name}</TableCell>
      <TableCell>{p.email}</TableCell>
      <TableCell>
        <RightsFields of={p.name} value={asked ?? { role: p.role, customer: p.customer, teams: p.teams }} change={(r) => (r.role === 'customer' && !r.customer ? setAsked(r) : change(r))} />
      </TableCell>
      <TableCell>
        {p.password_at ? (
          <>
            password {p.second_factor && 'and second factor'}
            <div className="sub">set {shortTime(p.password_at, zone)}</div>
          </>
        ) : (
          <span className="trouble">no password yet</span>
        )}
      </TableCell>
      <TableCell>{p.sessions === 0 ? '–' : p.sessions === 1 ? '1 browser' : `${p.sessions} browsers`}</TableCell>
      <TableCell>
        <button type="button" className="link" onClick={() => change({ disabled: !p.disabled_at })}>
          {p.disabled_at ? 'no; allow it' : 'yes; stop it'}
        </button>
      </TableCell>
      <TableCell>
        <button type="button" className="link" aria-haspopup="menu" aria-label={`More for ${p.name}`} onClick={(e) => setMenu(e.currentTarget)}>
          more
        </button>
        <Menu anchorEl={menu} open={Boolean(menu)} onClose={() => setMenu(null)}>
          <MenuItem onClick={() => choose(async () => show({ name: p.name, link: await ask(api.POST('/api/v1/people/{id}/password-link', path)) }))}>Make a link for a new password</MenuItem>
          <MenuItem disabled={p.sessions === 0} onClick={() => choose(() => ask(api.DELETE('/api/v1/people/{id}/sessions', path)))}>
            Sign out everywhere
          </MenuItem>
          <MenuItem disabled={!p.second_factor} onClick={() => choose(() => ask(api.DELETE('/api/v1/people/{id}/second-factor', path)))}>
            Take the second factor away
          </MenuItem>
          <MenuItem
            disabled={self}
            onClick={() => {
              setMenu(null)
              setSure(true)
            }}
>
            Erase …
          </MenuItem>
        </Menu>
        <Confirm
          open={sure}
          title={`Erase ${p.name}?`}
          text="Name, e-mail address, password, second factor and sessions are emptied for good. What they did stays in the trail without the name; published reports stay as they are. To only keep somebody out, stop them from signing in instead."
          act="Erase for good"
          busy={act.isPending}
          onNo={() => setSure(false)}
          onYes={() => {
            setSure(false)
            act.mutate(() => ask(api.DELETE('/api/v1/people/{id}', path)))
          }}
        />
        <Trouble error={act.error} />
      </TableCell>
    </TableRow>
  )
}

function NewPerson({ show }: { show: (l: { name: string; link: Schemas['PasswordLink'] }) => void }) {
  const form = useForm<Schemas['NewPerson']>()
  const [rights, setRights] = useState<Rights>({ role: 'viewer' })
  const add = useChange({
    mutationFn: (v: Schemas['NewPerson']) => ask(api.POST('/api/v1/people', { body: { ...v, ...rights, customer: rights.customer || undefined } })),
    again: ['people'],
    unawaited: true,
    onSuccess: (made, body) => {
      show({ name: body.name, link: made.link })
      form.reset()
      setRights({ role: 'viewer' })
    },
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <form className="in-a-row" onSubmit={(e) => void form.handleSubmit((v) => add.mutate(v))(e)}>
      <TextField label="Name" required sx={{ width: 190 }} error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <TextField label="E-mail" type="email" required sx={{ width: 240 }} error={Boolean(err.email)} helperText={err.email?.message} {...form.register('email')} />
      <RightsFields value={rights} change={setRights} error={err.role?.message ?? err.customer?.message ?? err.teams?.message} />
      <Button type="submit" sx={{ height: 40 }} disabled={add.isPending}>
        Let them sign in
      </Button>
      <Trouble error={add.error} />
    </form>
  )
}
