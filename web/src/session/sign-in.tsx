import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQueryClient } from '@tanstack/react-query'
import { Navigate, useNavigate, useSearchParams } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useForm } from '../parts/form'
import { Trouble } from '../parts/trouble'
import { useHeading } from '../shell/heading'
import { useFirst } from './queries'

/** Whether what is missing is the code of the second factor, or it was wrong: the password is right then. */
const wantsCode = (error: unknown) => error instanceof Problem && 'code' in error.fields

/** Sign in, with a second factor where the person has one; where nobody can yet, on to making the first account. */
export function SignIn() {
  useHeading()
  const form = useForm<Schemas['SignIn']>()
  const client = useQueryClient()
  const navigate = useNavigate()
  const [params] = useSearchParams()
  const first = useFirst()
  const signIn = useChange({
    mutationFn: (body: Schemas['SignIn']) => ask(api.POST('/api/v1/session', { body })),
    onSuccess: async (me) => {
      client.clear()
      client.setQueryData(['me'], me)
      const to = params.get('to') ?? '/'
      await navigate(to.startsWith('/') && !to.startsWith('//') ? to : '/', { replace: true })
    },
  })
  if (first.data?.needed) return <Navigate to="/first" replace />
  const code = wantsCode(signIn.error) || Boolean(form.watch('code'))
  const asks = signIn.error instanceof Problem && signIn.error.message.startsWith('The password is right')
  return (
    <main className="centre">
      <form className="card" onSubmit={(e) => void form.handleSubmit((v) => signIn.mutate({ ...v, code: v.code ?? '' }))(e)}>
        <Typography variant="h1">Kestite</Typography>
        <p>How your services stand against what you promised.</p>
        {params.get('chosen') !== null && !signIn.error && <p>Your password is set. Sign in with it.</p>}
        {asks ? <p>{signIn.error?.message}</p> : <Trouble error={signIn.error ?? first.error} />}
        <TextField label="E-mail" type="email" autoComplete="username" autoFocus required {...form.register('email')} />
        <TextField label="Password" type="password" autoComplete="current-password" required {...form.register('password')} />
        {code && (
          <TextField label="Code" autoComplete="one-time-code" autoFocus required helperText="What your telephone shows, or a recovery code" slotProps={{ htmlInput: { inputMode: 'numeric' } }} {...form.register('code')} />
        )}
        <Button type="submit" variant="contained" disabled={signIn.isPending}>
          Sign in
        </Button>
      </form>
    </main>
  )
}
