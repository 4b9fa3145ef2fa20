import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useOwnMethods } from '../notices/queries'
import { weekWords } from '../notices/words'
import { Week } from '../notices/week'
import { useForm } from '../parts/form'
import { Trouble, showFaults } from '../parts/trouble'
import { useZone } from '../time/span'

type Method = Schemas['MethodView']
type Values = { kind: 'mail' | 'sms'; address: string }

/** By what I am told of incidents; each is used once it is verified by a code. */
export function Methods() {
  const methods = useOwnMethods()
  const form = useForm<Values>({ defaultValues: { kind: 'mail', address: '' } })
  const add = useChange({
    mutationFn: (v: Values) => ask(api.POST('/api/v1/me/contact-methods', { body: v })),
    again: ['own-methods'],
    onSuccess: () => form.reset(),
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  return (
    <section className="part" aria-label="Contact methods">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
        How you are told
      </Typography>
      <p>Notices of incidents come here, and always into your inbox. An address is used once you have typed the code that is sent to it.</p>
      <Trouble error={methods.error} />
      {methods.data?.map((m) => <One key={m.id} method={m} />)}
      <form className="in-a-row" aria-label="Another contact method" onSubmit={(e) => void form.handleSubmit((v) => add.mutate(v))(e)}>
        <TextField select label="By" defaultValue="mail" sx={{ width: 120 }} {...form.register('kind')}>
          <MenuItem value="mail">e-mail</MenuItem>
          <MenuItem value="sms">SMS</MenuItem>
        </TextField>
        <TextField label="Address or number" required sx={{ width: 290 }} error={Boolean(err.address)} helperText={err.address?.message ?? 'A number with its country: +46 70 123 456'} {...form.register('address')} />
        <Button type="submit" sx={{ height: 40 }} disabled={add.isPending}>
          Add it
        </Button>
      </form>
      <Trouble error={add.error && !err.address ? add.error : undefined} />
    </section>
  )
}

function One({ method: m }: { method: Method }) {
  const { home } = useZone()
  const [code, setCode] = useState('')
  const [when, setWhen] = useState<{ week: Schemas['WeeklyPlan'] | undefined }>()
  const again = ['own-methods']
  const path = { params: { path: { id: m.id } } }
  const send = useChange({ mutationFn: () => ask(api.POST('/api/v1/me/contact-methods/{id}/code', path)), again })
  const verify = useChange({ mutationFn: () => ask(api.PUT('/api/v1/me/contact-methods/{id}/verification', { ...path, body: { code } })), again })
  const drop = useChange({ mutationFn: () => ask(api.DELETE('/api/v1/me/contact-methods/{id}', path)), again })
  const active = useChange({ mutationFn: (w: Schemas['WeeklyPlan'] | undefined) => ask(api.PUT('/api/v1/me/contact-methods/{id}', { ...path, body: { active: w } })), onSuccess: () => setWhen(undefined), again })
  const name = m.kind === 'sms' ? 'SMS' : 'e-mail'
  return (
    <div className="entry" data-method={m.address}>
      <div className="name">
        {m.address} <span className="sub">by {name}</span>
      </div>
      <div className="sub">
        {m.verified_at ? 'verified' : <b className="word-degraded">not verified: nothing is sent here yet</b>} · {m.active ? weekWords(m.active) : 'at any time'} ·{' '}
        <button type="button" className="link" aria-expanded={when !== undefined} onClick={() => setWhen(when ? undefined : { week: m.active })}>
          when
        </button>{' '}
        ·{' '}
        <button type="button" className="link" disabled={drop.isPending} onClick={() => drop.mutate()}>
          remove
        </button>
      </div>
      {when && (
        <div className="hours-of-method">
          <Week label="Only within some hours; what is due outside waits" value={when.week} change={(week) => setWhen({ week })} zone={home} />
          <Button variant="outlined" disabled={active.isPending} onClick={() => active.mutate(when.week)}>
            Save the hours
          </Button>
        </div>
      )}
      {!m.verified_at && (
        <form
          className="in-a-row tight"
          aria-label={`Verify ${m.address}`}
          onSubmit={(e) => {
            e.preventDefault()
            verify.mutate()
          }}
        >
          <Button variant="outlined" disabled={send.isPending} onClick={() => send.mutate()}>
            {send.isPending ? 'Sending…' : send.isSuccess ? 'Send another code' : 'Send a code'}
          </Button>
          <TextField label="Code" value={code} sx={{ width: 130 }} slotProps={{ htmlInput: { inputMode: 'numeric', autoComplete: 'one-time-code', maxLength: 10 } }} onChange={(e) => setCode(e.target.value)} />
          <Button type="submit" variant="contained" disabled={code.trim() === '' || verify.isPending} sx={{ height: 40 }}>
            Verify
          </Button>
        </form>
      )}
      {send.data && (
        <p className={send.data.sent ? 'sub' : undefined} role="status">
          {send.data.sent ? 'Sent. The remote answered: ' : 'It could not be sent: '}
          {send.data.answer}
        </p>
      )}
      <Trouble error={send.error ?? verify.error ?? drop.error ?? active.error} />
    </div>
  )
}
