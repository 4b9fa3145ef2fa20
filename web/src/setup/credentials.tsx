import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useChecks, useCredentials } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Awaited, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { Listing } from './listing'
import { useSecrets } from './queries'

type Credential = Schemas['DefinedCredentialSpec']
type Values = { name: string; kind: 'basic' | 'bearer' | 'header' | 'query'; user: string; header: string; parameter: string; origins: string; secret: string }

const kinds = { basic: 'name and password (Basic)', bearer: 'token (Bearer)', header: 'value of a header', query: 'parameter in the address' }

/** What checks sign in with: entered once, referred to by name, never shown again. */
export function Credentials() {
  const credentials = useCredentials()
  const checks = useChecks()
  const secrets = useSecrets()
  const { zone } = useZone()
  if (!credentials.data) return <Awaited error={credentials.error} />
  const users = (id: string) => (checks.data ?? []).filter((c) => !c.retired && c.spec.http?.credential === id)
  return (
    <Listing<Credential>
      title="Credentials"
      one="credential"
      note="An HTTP check signs in with one of these. The secret is encrypted in the database, goes to the agents that need it, and is never shown again; in what is kept of a failed answer it is masked."
      list={credentials.data}
      columns={['Credential', 'What it is', 'May be sent to', 'Secret', 'Used by']}
      cells={(c) => {
        const secret = secrets.data?.find((s) => s.credential === c.id)
        return [
          c.spec.name,
          <>
            {kinds[c.spec.kind]}
            <div className="sub">{c.spec.user ?? c.spec.header ?? c.spec.parameter}</div>
          </>,
          c.spec.origins.length ? c.spec.origins.map((o) => <div key={o}>{o}</div>) : <span className="trouble">nowhere yet</span>,
          secret ? `set ${shortTime(secret.changed_at, zone)} by ${secret.changed_by}` : <span className="trouble">not entered yet</span>,
          users(c.id)
            .map((x) => x.spec.name)
            .join(', ') || '–',
        ]
      }}
      form={(c, done) => <CredentialForm credential={c} done={done} />}
      of="credentials"
    />
  )
}

function CredentialForm({ credential, done }: { credential?: Credential; done: () => void }) {
  const fresh: Values = { name: credential?.spec.name ?? '', kind: credential?.spec.kind ?? 'basic', user: credential?.spec.user ?? '', header: credential?.spec.header ?? '', parameter: credential?.spec.parameter ?? '', origins: credential?.spec.origins.join('\n') ?? '', secret: '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, credential?.revision ?? 0, { draft: `credentials/${credential?.id ?? 'new'}`, without: (v) => ({ ...v, secret: '' }) })
  const [made, setMade] = useState<string | undefined>()
  const save = useChange({
    mutationFn: async (v: Values) => {
      const spec = {
        name: v.name,
        kind: v.kind,
        user: v.kind === 'basic' ? v.user : undefined,
        header: v.kind === 'header' ? v.header : undefined,
        parameter: v.kind === 'query' ? v.parameter : undefined,
        origins: v.origins.split(/\s+/).filter(Boolean),
      }
      const known = credential?.id ?? made
      const id = known ?? (await ask(api.POST('/api/v1/credentials', { body: { spec } }))).id
      setMade(id) // so that trying again after a refused secret does not make it twice
      if (known) await ask(api.PUT('/api/v1/credentials/{id}', { params: { path: { id } }, body: { revision: credential?.revision ?? 1, spec } }))
      if (v.secret || !credential) await ask(api.PUT('/api/v1/credentials/{id}/secret', { params: { path: { id } }, body: { secret: v.secret } }))
    },
    again: 'all',
    kept,
    onSuccess: done,
    onError: (e) => {
      showFaults(e, form.setError, 'spec.')
      if (e instanceof Problem) {
        const at = Object.entries(e.fields).find(([path]) => path.startsWith('spec.origins'))
        if (at) form.setError('origins', { type: 'server', message: at[1] })
      }
      showFaults(e, form.setError)
    },
  })
  const kind = form.watch('kind')
  const err = form.formState.errors
  return (
    <Box component="form" className="form" sx={{ margin: '12px 0 24px' }} autoComplete="off" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={credential && { path: 'credentials', id: credential.id }} />
      <div className="side">
        <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
        <TextField select label="What it is" defaultValue={kind} {...form.register('kind')}>
          {Object.entries(kinds).map(([k, text]) => (
            <MenuItem key={k} value={k}>
              {text}
            </MenuItem>
          ))}
        </TextField>
      </div>
      <div className="side">
        {kind === 'basic' && <TextField label="User name" required error={Boolean(err.user)} helperText={err.user?.message} {...form.register('user')} />}
        {kind === 'header' && <TextField label="Header" required error={Boolean(err.header)} helperText={err.header?.message ?? 'Such as X-Api-Key'} {...form.register('header')} />}
        {kind === 'query' && <TextField label="Parameter" required error={Boolean(err.parameter)} helperText={err.parameter?.message ?? 'Such as api_key'} {...form.register('parameter')} />}
        <TextField label="Secret" type="password" autoComplete="new-password" required={!credential} error={Boolean(err.secret)} helperText={err.secret?.message ?? (credential ? 'Empty: it stays as it is' : '')} {...form.register('secret')} />
      </div>
      <TextField label="May be sent to" required multiline minRows={1} error={Boolean(err.origins)} helperText={err.origins?.message ?? 'Scheme, host and port, such as https://booking.skerry.example:8443; one a line. The secret goes nowhere else, wherever a check or a redirect points'} {...form.register('origins')} />
      <FormEnd error={save.error} busy={save.isPending} save={credential ? 'Save' : 'Add'} leave={done} />
    </Box>
  )
}
