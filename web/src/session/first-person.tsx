import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQueryClient } from '@tanstack/react-query'
import { Navigate, useNavigate } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useForm } from '../parts/form'
import { Trouble, showFaults } from '../parts/trouble'
import { useHeading } from '../shell/heading'
import { useFirst } from './queries'

/** Makes the first account of an installation, with the token from the console. */
export function FirstPerson() {
  useHeading()
  const first = useFirst()
  // What the server was started with stands; where it was told nothing, this browser's zone is a likely one.
  const said = first.data && { organisation: first.data.organisation, timezone: first.data.timezone || Intl.DateTimeFormat().resolvedOptions().timeZone }
  const form = useForm<Schemas['FirstPerson']>({ values: said && { ...said, token: '', name: '', email: '', password: '' }, resetOptions: { keepDirtyValues: true } })
  const client = useQueryClient()
  const navigate = useNavigate()
  const make = useChange({
    mutationFn: (body: Schemas['FirstPerson']) => ask(api.POST('/api/v1/first-person', { body })),
    onSuccess: async (me) => {
      client.clear()
      client.setQueryData(['me'], me)
      await navigate('/set-up', { replace: true })
    },
    onError: (e) => showFaults(e, form.setError),
  })
  // While it is made, and until the page that follows is there, "not needed any more" is this person's own doing.
  const elsewhere = make.isIdle || make.isError
  if (first.data && !first.data.needed && elsewhere) return <Navigate to="/sign-in" replace />
  const field = (name: keyof Schemas['FirstPerson'], label: string, more: object = {}, help?: string) => (
    <TextField label={label} required error={Boolean(form.formState.errors[name])} helperText={form.formState.errors[name]?.message ?? help} {...more} {...form.register(name as 'token')} />
  )
  return (
    <main className="centre">
      <form className="card" onSubmit={(e) => void form.handleSubmit((v) => make.mutate(v))(e)}>
        <Typography variant="h1">The first account</Typography>
        <p>Nobody can sign in here yet. Who starts the server can: it printed a one-time token on its console.</p>
        <Trouble error={make.error ?? first.error} />
        {field('token', 'One-time token', { autoFocus: true, autoComplete: 'off' })}
        {field('organisation', 'Organisation')}
        {field('timezone', 'Time zone of your periods', {}, 'An IANA name such as Europe/Oslo')}
        {field('name', 'Your name', { autoComplete: 'name' })}
        {field('email', 'Your e-mail', { type: 'email', autoComplete: 'username' })}
        {field('password', 'Password', { type: 'password', autoComplete: 'new-password' }, 'At least 10 characters')}
        <Button type="submit" variant="contained" disabled={make.isPending}>
          Make the account and sign in
        </Button>
      </form>
    </main>
  )
}
