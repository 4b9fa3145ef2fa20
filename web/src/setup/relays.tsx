import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller } from 'react-hook-form'
import { useCredentials, useMay } from '../api/queries'
import { useRelays, type Relay } from '../notices/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { useSaving } from '../parts/save'
import { Awaited, Trouble } from '../parts/trouble'
import { Listing } from './listing'

type Values = { name: string; kind: 'mail' | 'sms'; address: string; plain: boolean; authority: string; sender: string; credential: string; body: string; rank: string; note: string }

/** What passes our messages on: mail servers and SMS gateways. */
export function Relays() {
  const relays = useRelays()
  const may = useMay()('administer')
  if (!relays.data) return <Awaited error={relays.error} />
  return (
    <Listing<Relay>
      title="Relays"
      one="relay"
      note="What passes our messages on: mail servers, and the web addresses of SMS gateways. Those of one kind are tried in the order of their rank, another where one fails. An administrator keeps them."
      list={relays.data}
      may={may}
      columns={['Relay', 'For', 'Address', 'Sender']}
      cells={(r) => [
        <>
          {r.spec.name}
          {r.spec.rank ? <div className="sub">rank {r.spec.rank}</div> : null}
          {r.spec.note && <div className="sub">{r.spec.note}</div>}
        </>,
        r.spec.kind === 'mail' ? 'e-mail' : 'SMS',
        <>
          {r.spec.address}
          {r.spec.plain && <div className="sub word-degraded">without TLS</div>}
        </>,
        r.spec.sender,
      ]}
      form={(r, done) => <RelayForm relay={r} done={done} />}
      of="relays"
    />
  )
}

function RelayForm({ relay, done }: { relay?: Relay; done: () => void }) {
  const s = relay?.spec
  const fresh: Values = { name: s?.name ?? '', kind: s?.kind ?? 'mail', address: s?.address ?? '', plain: s?.plain ?? false, authority: s?.authority ?? '', sender: s?.sender ?? '', credential: s?.credential ?? '', body: s?.body ?? '', rank: s?.rank ? String(s.rank) : '', note: s?.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, relay?.revision ?? 0, { draft: `relays/${relay?.id ?? 'new'}` })
  const credentials = (useCredentials().data ?? []).filter((c) => !c.retired).map((c) => ({ id: c.id, name: c.spec.name }))
  const save = useSaving({
    of: 'relays',
    entry: relay,
    form,
    kept,
    spec: (v) => ({
      name: v.name,
      kind: v.kind,
      address: v.address.trim(),
      plain: (v.kind === 'mail' && v.plain) || undefined,
      authority: v.authority.trim() || undefined,
      sender: v.sender.trim(),
      credential: v.credential || undefined,
      body: (v.kind === 'sms' && v.body) || undefined,
      rank: v.rank ? Number(v.rank) : undefined,
      note: v.note || undefined,
    }),
    done,
  })
  const kind = form.watch('kind')
  const err = form.formState.errors
  return (
    <form className="form in-place" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={relay && { path: 'relays', id: relay.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <Controller
        control={form.control}
        name="kind"
        render={({ field }) => (
          <TextField select label="For" value={field.value} onChange={field.onChange}>
            <MenuItem value="mail">e-mail, by a mail server</MenuItem>
            <MenuItem value="sms">SMS, by a gateway</MenuItem>
          </TextField>
        )}
      />
      <TextField label="Address" required error={Boolean(err.address)} helperText={err.address?.message ?? (kind === 'mail' ? 'smtp://host:587 begins TLS when it is connected, smtps://host:465 at once' : 'As https://gateway.example/messages')} {...form.register('address')} />
      <TextField label="Sender" required error={Boolean(err.sender)} helperText={err.sender?.message ?? (kind === 'mail' ? 'The address that messages come from' : 'The name or number that is shown')} {...form.register('sender')} />
      <Controller control={form.control} name="credential" render={({ field }) => <Pick label="Signs in with" value={field.value} change={field.onChange} of={credentials} error={err.credential?.message} help={kind === 'mail' ? 'A credential with name and password, bound to this address; none: nobody signs in' : 'A credential bound to this address; none: nothing is sent along'} />} />
      {kind === 'sms' && <TextField label="Body" multiline error={Boolean(err.body)} helperText={err.body?.message ?? 'JSON with {to}, {text} and {sender}; empty: {"to": …, "from": …, "text": …}'} {...form.register('body')} />}
      {kind === 'mail' && (
        <>
          <FormControlLabel label="Send without TLS where the server offers none" control={<Controller control={form.control} name="plain" render={({ field }) => <Checkbox size="small" checked={field.value} onChange={field.onChange} />} />} />
          {err.plain && <Trouble error={new Error(err.plain.message)} />}
        </>
      )}
      <TextField label="Certificates trusted beside the system’s" multiline maxRows={6} error={Boolean(err.authority)} helperText={err.authority?.message ?? 'In PEM; empty: none'} {...form.register('authority')} />
      <TextField label="Rank" error={Boolean(err.rank)} helperText={err.rank?.message ?? 'Lower ones are tried first; empty: 0'} {...form.register('rank', { pattern: { value: /^\d{0,3}$/, message: 'A number from 0 to 100' } })} />
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={relay ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}
