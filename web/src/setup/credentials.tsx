import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, ask, type Schemas } from '../api/client'
import { useChecks, useCredentials, useMayDefine } from '../api/queries'
import { Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/period'
import { SetupHead } from './head'

type Credential = Schemas['DefinedCredentialSpec']
type Values = { name: string; kind: 'basic' | 'bearer' | 'header'; user: string; header: string; secret: string }

const kinds = { basic: 'name and password (Basic)', bearer: 'token (Bearer)', header: 'value of a header' }

/** What checks sign in with: entered once, referred to by name, never shown again. */
export function Credentials() {
  const credentials = useCredentials()
  const checks = useChecks()
  const secrets = useQuery({ queryKey: ['secrets'], queryFn: () => ask(api.GET('/api/v1/credentials/secrets')).then((l) => l.items) })
  const may = useMayDefine()
  const { zone } = useZone()
  const [editing, setEditing] = useState<string | undefined>()
  const client = useQueryClient()
  const retire = useMutation({ mutationFn: (c: Credential) => (c.retired ? ask(api.POST('/api/v1/credentials/{id}/restore', { params: { path: { id: c.id } } })) : ask(api.DELETE('/api/v1/credentials/{id}', { params: { path: { id: c.id } } }))), onSuccess: () => client.invalidateQueries() })
  if (!credentials.data) return <Trouble error={credentials.error} />
  const users = (id: string) => (checks.data ?? []).filter((c) => !c.retired && c.spec.http?.credential === id)
  return (
    <>
      <SetupHead title="Credentials">
        {may && (
          <Button variant={credentials.data.length ? 'outlined' : 'contained'} onClick={() => setEditing('')}>
            Add a credential
          </Button>
        )}
      </SetupHead>
      <p className="sub" style={{ maxWidth: 640 }}>
        An HTTP check signs in with one of these. The secret is encrypted in the database, goes to the agents that need it, and is never shown again; in what is kept of a failed answer it is masked.
      </p>
      {editing === '' && <CredentialForm done={() => setEditing(undefined)} />}
      <Trouble error={retire.error} />
      {credentials.data.length > 0 && (
        <table className="plain" style={{ maxWidth: 900 }}>
          <thead>
            <tr>
              <th>Credential</th>
              <th>What it is</th>
              <th>Secret</th>
              <th>Used by</th>
              <th aria-hidden />
            </tr>
          </thead>
          <tbody>
            {credentials.data.map((c) => {
              const secret = secrets.data?.find((s) => s.credential === c.id)
              return editing === c.id ? (
                <tr key={c.id}>
                  <td colSpan={5}>
                    <CredentialForm credential={c} done={() => setEditing(undefined)} />
                  </td>
                </tr>
              ) : (
                <tr key={c.id} data-credential={c.id} style={c.retired ? { opacity: 0.6 } : undefined}>
                  <td>
                    {c.spec.name}
                    {c.retired && ', retired'}
                  </td>
                  <td>
                    {kinds[c.spec.kind]}
                    <div className="sub">{c.spec.user ?? c.spec.header}</div>
                  </td>
                  <td>{secret ? `set ${shortTime(secret.changed_at, zone)} by ${secret.changed_by}` : <span className="trouble">not entered yet</span>}</td>
                  <td>
                    {users(c.id)
                      .map((x) => x.spec.name)
                      .join(', ') || '–'}
                  </td>
                  <td>
                    {may && (
                      <>
                        {!c.retired && (
                          <button type="button" className="link" onClick={() => setEditing(c.id)}>
                            edit
                          </button>
                        )}{' '}
                        <button type="button" className="link" onClick={() => retire.mutate(c)}>
                          {c.retired ? 'restore' : 'retire'}
                        </button>
                      </>
                    )}
                  </td>
                </tr>
              )
            })}
          </tbody>
        </table>
      )}
    </>
  )
}

function CredentialForm({ credential, done }: { credential?: Credential; done: () => void }) {
  const form = useForm<Values>({ defaultValues: { name: credential?.spec.name ?? '', kind: credential?.spec.kind ?? 'basic', user: credential?.spec.user ?? '', header: credential?.spec.header ?? '', secret: '' } })
  const client = useQueryClient()
  const [made, setMade] = useState<string | undefined>()
  const save = useMutation({
    mutationFn: async (v: Values) => {
      const spec = { name: v.name, kind: v.kind, user: v.kind === 'basic' ? v.user : undefined, header: v.kind === 'header' ? v.header : undefined }
      const known = credential?.id ?? made
      const id = known ?? (await ask(api.POST('/api/v1/credentials', { body: { spec } }))).id
      setMade(id) // so that trying again after a refused secret does not make it twice
      if (known) await ask(api.PUT('/api/v1/credentials/{id}', { params: { path: { id } }, body: { revision: credential?.revision ?? 0, spec } }))
      if (v.secret || !credential) await ask(api.PUT('/api/v1/credentials/{id}/secret', { params: { path: { id } }, body: { secret: v.secret } }))
    },
    onSuccess: async () => {
      await client.invalidateQueries()
      done()
    },
    onError: (e) => {
      showFaults(e, form.setError, 'spec.')
      showFaults(e, form.setError)
    },
  })
  const kind = form.watch('kind')
  const err = form.formState.errors
  return (
    <form className="form" style={{ margin: '12px 0 24px' }} autoComplete="off" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
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
        <TextField label="Secret" type="password" autoComplete="new-password" required={!credential} error={Boolean(err.secret)} helperText={err.secret?.message ?? (credential ? 'Empty: it stays as it is' : '')} {...form.register('secret')} />
      </div>
      <Trouble error={save.error} />
      <div style={{ display: 'flex', gap: 12 }}>
        <Button type="submit" variant="contained" disabled={save.isPending}>
          {credential ? 'Save' : 'Add'}
        </Button>
        <Button variant="text" onClick={done}>
          Leave it
        </Button>
      </div>
    </form>
  )
}
