import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useForm } from 'react-hook-form'
import { Navigate, useNavigate, useSearchParams } from 'react-router'
import { api, ask } from '../api/client'
import { Trouble } from '../parts/trouble'

/** Sign in; where nobody can yet, on to making the first account. */
export function SignIn() {
  const form = useForm<{ email: string; password: string }>()
  const client = useQueryClient()
  const navigate = useNavigate()
  const [params] = useSearchParams()
  const first = useQuery({ queryKey: ['first'], queryFn: () => ask(api.GET('/api/v1/first-person')) })
  const signIn = useMutation({
    mutationFn: (body: { email: string; password: string }) => ask(api.POST('/api/v1/session', { body })),
    onSuccess: async (me) => {
      client.clear()
      client.setQueryData(['me'], me)
      const to = params.get('to') ?? '/'
      await navigate(to.startsWith('/') && !to.startsWith('//') ? to : '/', { replace: true })
    },
  })
  if (first.data?.needed) return <Navigate to="/first" replace />
  return (
    <main className="centre">
      <form className="card" onSubmit={(e) => void form.handleSubmit((v) => signIn.mutate(v))(e)}>
        <h1 style={{ margin: 0 }}>Kestite</h1>
        <p style={{ margin: 0 }}>How your services stand against what you promised.</p>
        <Trouble error={signIn.error ?? first.error} />
        <TextField label="E-mail" type="email" autoComplete="username" autoFocus required {...form.register('email')} />
        <TextField label="Password" type="password" autoComplete="current-password" required {...form.register('password')} />
        <Button type="submit" variant="contained" disabled={signIn.isPending}>
          Sign in
        </Button>
      </form>
    </main>
  )
}
