import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { useForm } from '../parts/form'
import { Awaited, Trouble, showFaults } from '../parts/trouble'
import { Methods } from './methods'
import { Sounds } from './sounds'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { useOwnSessions } from './queries'
import './you.css'

/** What everybody keeps for themselves: password, second factor, the browsers they are signed in with. */
export function You() {
  const me = useMe()
  if (!me.data) return <Awaited error={me.error} />
  const must = me.data.second_factor_required && !me.data.second_factor
  return (
    <div className="own">
      <Typography variant="h1">Your account</Typography>
      <p className="sub">
        {me.data.name}, {me.data.email}, {me.data.role}
      </p>
      {must && (
        <p className="trouble" role="alert">
          Everybody needs a second factor here. Set yours up, and the rest opens.
        </p>
      )}
      <SecondFactor me={me.data} />
      {!must && me.data.may.includes('see') && <Methods />}
      {!must && me.data.may.includes('see') && <Sounds />}
      {!must && <PasswordForm since={me.data.password_at} />}
      <Sessions />
    </div>
  )
}

/** A mutation of one's own account: on success everything about it is asked for again. */
function useOwn<V, R>(form: { setError: Parameters<typeof showFaults>[1] } | undefined, mutationFn: (v: V) => Promise<R>, done?: (r: R) => void) {
  return useChange({
    mutationFn,
    again: ['me', 'own-sessions'],
    unawaited: true,
    onSuccess: (r: R) => done?.(r),
    onError: (e) => form && showFaults(e, form.setError),
  })
}

function PasswordForm({ since }: { since?: string }) {
  const form = useForm<Schemas['PasswordChange']>({ defaultValues: { old: '', password: '' } })
  const { zone } = useZone()
  const change = useOwn(form as never, (body: Schemas['PasswordChange']) => ask(api.PUT('/api/v1/me/password', { body })), () => form.reset())
  const err = form.formState.errors
  return (
    <section className="part">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Password</Typography>
      {since && <p className="sub">Set {shortTime(since, zone)}. With a new one, all other browsers are signed out.</p>}
      <form className="in-a-row" onSubmit={(e) => void form.handleSubmit((v) => change.mutate(v))(e)} aria-label="Password">
        <TextField label="The one you have" type="password" autoComplete="current-password" required sx={{ width: 230 }} error={Boolean(err.old)} helperText={err.old?.message} {...form.register('old')} />
        <TextField label="The new one" type="password" autoComplete="new-password" required sx={{ width: 260 }} error={Boolean(err.password)} helperText={err.password?.message ?? 'At least 10 characters'} {...form.register('password')} />
        <Button type="submit" sx={{ height: 40 }} disabled={change.isPending}>
          Change it
        </Button>
      </form>
      {change.isSuccess && <p role="status">Your password is changed.</p>}
      <Trouble error={change.error} />
    </section>
  )
}

function SecondFactor({ me }: { me: Schemas['Me'] }) {
  const [codes, setCodes] = useState<string[] | undefined>()
  return (
    <section className="part">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Second factor</Typography>
      {codes && <Codes codes={codes} done={() => setCodes(undefined)} />}
      {!codes && me.second_factor && <HasFactor me={me} show={setCodes} />}
      {!codes && !me.second_factor && <NewFactor show={setCodes} />}
    </section>
  )
}

/** The codes for when the telephone is lost: there is no other way to see them. */
function Codes({ codes, done }: { codes: string[]; done: () => void }) {
  return (
    <>
      <p>These codes stand in for your telephone, each once. They are shown now and never again: print them, or keep them where you keep passwords.</p>
      <pre data-recovery className="codes">
        {codes.join('\n')}
      </pre>
      <Button onClick={done}>I have kept them</Button>
    </>
  )
}

function HasFactor({ me, show }: { me: Schemas['Me']; show: (codes: string[]) => void }) {
  const form = useForm<Schemas['Password']>({ defaultValues: { password: '' } })
  const renew = useOwn(form as never, (body: Schemas['Password']) => ask(api.POST('/api/v1/me/recovery-codes', { body })), (r) => show(r.recovery_codes))
  const drop = useOwn(form as never, (body: Schemas['Password']) => ask(api.POST('/api/v1/me/second-factor/drop', { body })))
  const err = form.formState.errors
  return (
    <>
      <p>
        On: a code from your telephone is asked for after the password. {me.recovery_codes} of the recovery codes are left.
      </p>
      <form className="in-a-row" onSubmit={(e) => void form.handleSubmit((v) => renew.mutate(v))(e)} aria-label="Second factor">
        <TextField label="Your password" type="password" autoComplete="current-password" required sx={{ width: 230 }} error={Boolean(err.password)} helperText={err.password?.message} {...form.register('password')} />
        <Button type="submit" sx={{ height: 40 }} disabled={renew.isPending}>
          Make new recovery codes
        </Button>
        {!me.second_factor_required && (
          <Button variant="text" color="error" sx={{ height: 40 }} disabled={drop.isPending} onClick={(e) => void form.handleSubmit((v) => drop.mutate(v))(e)}>
            Do without it
          </Button>
        )}
      </form>
      <Trouble error={renew.error ?? drop.error} />
    </>
  )
}

function NewFactor({ show }: { show: (codes: string[]) => void }) {
  const first = useForm<Schemas['Password']>({ defaultValues: { password: '' } })
  const second = useForm<Schemas['Code']>({ defaultValues: { code: '' } })
  const propose = useOwn(first as never, (body: Schemas['Password']) => ask(api.POST('/api/v1/me/second-factor', { body })))
  const confirm = useOwn(second as never, (body: Schemas['Code']) => ask(api.PUT('/api/v1/me/second-factor', { body })), (r) => show(r.recovery_codes))
  if (!propose.data) {
    const err = first.formState.errors
    return (
      <>
        <p>Off. With it, signing in takes a code that your telephone shows, beside the password.</p>
        <form className="in-a-row" onSubmit={(e) => void first.handleSubmit((v) => propose.mutate(v))(e)} aria-label="Second factor">
          <TextField label="Your password" type="password" autoComplete="current-password" required sx={{ width: 230 }} error={Boolean(err.password)} helperText={err.password?.message} {...first.register('password')} />
          <Button type="submit" sx={{ height: 40 }} disabled={propose.isPending}>
            Set it up
          </Button>
        </form>
        <Trouble error={propose.error} />
      </>
    )
  }
  const err = second.formState.errors
  return (
    <div className="beside">
      <img src={`data:image/png;base64,${propose.data.qr}`} alt="QR code of the secret below" width={232} height={232} className="qr" />
      <div>
        <p>Photograph it with a program on your telephone that makes codes (TOTP), or type the secret in there:</p>
        <p>
          <code data-secret>{propose.data.secret.replace(/(.{4})/g, '$1 ').trim()}</code>
        </p>
        <form className="in-a-row" onSubmit={(e) => void second.handleSubmit((v) => confirm.mutate({ code: v.code.replaceAll(' ', '') }))(e)} aria-label="First code">
          <TextField label="The code it shows now" autoComplete="one-time-code" autoFocus required sx={{ width: 200 }} error={Boolean(err.code)} helperText={err.code?.message} slotProps={{ htmlInput: { inputMode: 'numeric' } }} {...second.register('code')} />
          <Button type="submit" variant="contained" sx={{ height: 40 }} disabled={confirm.isPending}>
            Turn it on
          </Button>
        </form>
        <Trouble error={confirm.error} />
      </div>
    </div>
  )
}

/** A browser's name for itself, in short. */
function short(browser: string): string {
  const name = /(Firefox|Edg|OPR|Chrome|Safari)\/\d+/.exec(browser)?.[0].replace('/', ' ')
  const on = /(Windows|Mac OS X|Android|iPhone|iPad|Linux)/.exec(browser)?.[0]
  return name ? [name, on].filter(Boolean).join(', ') : browser || 'does not say what it is'
}

function Sessions() {
  const { zone } = useZone()
  const sessions = useOwnSessions()
  const end = useOwn(undefined, (id: string) => ask(api.DELETE('/api/v1/me/sessions/{id}', { params: { path: { id } } })))
  const endAll = useOwn(undefined, () => ask(api.DELETE('/api/v1/me/sessions')))
  return (
    <section className="part">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>Signed in</Typography>
      <Trouble error={sessions.error ?? end.error ?? endAll.error} />
      <Table>
        <TableHead>
          <TableRow>
            <TableCell>Browser</TableCell>
            <TableCell>From</TableCell>
            <TableCell>Since</TableCell>
            <TableCell>Last used</TableCell>
            <TableCell aria-hidden />
          </TableRow>
        </TableHead>
        <TableBody>
          {sessions.data?.map((s) => (
            <TableRow key={s.id} data-session={s.id}>
              <TableCell>
                {short(s.browser)}
                {!s.second_factor && <div className="sub">by password alone</div>}
              </TableCell>
              <TableCell>{s.source}</TableCell>
              <TableCell>{shortTime(s.begun_at, zone)}</TableCell>
              <TableCell>{s.here ? 'this one' : shortTime(s.seen_at, zone)}</TableCell>
              <TableCell>
                {!s.here && (
                  <button type="button" className="link" onClick={() => end.mutate(s.id)}>
                    sign out
                  </button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {(sessions.data?.length ?? 0) > 1 && (
        <Button sx={{ marginTop: 1 }} disabled={endAll.isPending} onClick={() => endAll.mutate()}>
          Sign out everywhere else
        </Button>
      )}
    </section>
  )
}
