import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { useForm } from '../parts/form'
import { Trouble, showFaults } from '../parts/trouble'
import { useHeading } from '../shell/heading'

type Values = { password: string; again: string }

/** Chooses a password by a one-time link; its token stands behind # and so in no log. */
export function Enter() {
  useHeading()
  const [token] = useState(() => window.location.hash.slice(1))
  const form = useForm<Values>({ defaultValues: { password: '', again: '' } })
  const navigate = useNavigate()
  const enter = useChange({
    mutationFn: (v: Values) => ask(api.POST('/api/v1/password-link', { body: { token, password: v.password } })),
    onSuccess: () => navigate('/sign-in?chosen', { replace: true }),
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <main className="centre">
      <form className="card" onSubmit={(e) => void form.handleSubmit((v) => enter.mutate(v))(e)}>
        <Typography variant="h1">Choose a password</Typography>
        {token ? <p>The link works once. All browsers you are signed in with are signed out.</p> : <Trouble error={new Error('The link is incomplete: open it as it was given to you, with what stands behind #.')} />}
        <Trouble error={enter.error} />
        <TextField label="New password" type="password" autoComplete="new-password" autoFocus required error={Boolean(err.password)} helperText={err.password?.message ?? 'At least 10 characters; some words that do not belong together are best'} {...form.register('password')} />
        <TextField label="The same again" type="password" autoComplete="new-password" required error={Boolean(err.again)} helperText={err.again?.message} {...form.register('again', { validate: (again, all) => again === all.password || 'That is not the same' })} />
        <Button type="submit" variant="contained" disabled={enter.isPending || !token}>
          Set the password
        </Button>
      </form>
    </main>
  )
}
