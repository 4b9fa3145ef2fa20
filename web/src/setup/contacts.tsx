import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useCredentials, useMayDefineForAll } from '../api/queries'
import { useContacts, type Contact } from '../notices/queries'
import { kindWords, weekWords } from '../notices/words'
import { Week } from '../notices/week'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { useSaving } from '../parts/save'
import { Awaited, Trouble, showFaults } from '../parts/trouble'
import { useZone } from '../time/span'
import { Listing } from './listing'

type Kind = Schemas['ContactSpec']['kind']
type Values = { name: string; kind: Kind; address: string; credential: string; signing: string; method: 'POST' | 'PUT'; headers: string; body: string; expect: string; facility: string; args: string; active: Schemas['WeeklyPlan'] | null; note: string }

const help: Record<Kind, string> = {
  mail: 'As gates@harbour.example',
  sms: 'With its country: +46 70 123 456',
  webhook: 'As https://desk.example/incoming',
  chat: 'The address of the room, which takes {"text": …}',
  syslog: 'As udp://host:514, tcp://host:601 or tls://host:6514',
  script: 'The name of its file in the directory that the server was started with (--scripts)',
}

/** Contact methods that belong to no single person. */
export function Contacts() {
  const contacts = useContacts()
  const may = useMayDefineForAll()
  if (!contacts.data) return <Awaited error={contacts.error} />
  return (
    <Listing<Contact>
      title="Contact methods"
      one="contact method"
      note="Shared ones: a mailbox, a chat room, another program. Those of people are their own, in their account. Each can be tested, with what the remote really answers."
      list={contacts.data}
      columns={['Name', 'By', 'Address']}
      cells={(c) => [
        <>
          {c.spec.name}
          {c.spec.active && <div className="sub">{weekWords(c.spec.active)}</div>}
          {c.spec.note && <div className="sub">{c.spec.note}</div>}
          {may && !c.retired && <Tested id={c.id} />}
        </>,
        kindWords[c.spec.kind],
        <span className="as-written">{c.spec.address}</span>,
      ]}
      form={(c, done) => <ContactForm contact={c} done={done} />}
      of="contact-methods"
    />
  )
}

function Tested({ id }: { id: string }) {
  const test = useChange({ mutationFn: () => ask(api.POST('/api/v1/contact-methods/{id}/test', { params: { path: { id } } })) })
  return (
    <div>
      <button type="button" className="link" disabled={test.isPending} onClick={() => test.mutate()}>
        {test.isPending ? 'sending…' : 'send a test'}
      </button>
      {test.data && (
        <div className={test.data.sent ? 'sub' : 'word-down'} role="status" data-sent={test.data.sent}>
          {test.data.sent ? 'Taken: ' : 'Not taken: '}
          {test.data.answer}
        </div>
      )}
      <Trouble error={test.error} />
    </div>
  )
}

const written = (list: Schemas['FixedHeader'][] | undefined) => (list ?? []).map((h) => `${h.name}: ${h.value}`).join('\n')

/** The contact method that the form says. */
function specOf(v: Values): Schemas['ContactSpec'] {
  const hook = v.kind === 'webhook'
  const web = hook || v.kind === 'chat'
  return {
    name: v.name,
    kind: v.kind,
    address: v.address.trim(),
    credential: (web && v.credential) || undefined,
    signing: (hook && v.signing) || undefined,
    method: hook && v.method === 'PUT' ? v.method : undefined,
    headers: hook && v.headers.trim() ? v.headers.trim().split('\n').map((l) => ({ name: l.split(':')[0]?.trim() ?? '', value: l.slice(l.indexOf(':') + 1).trim() })) : undefined,
    body: (hook && v.body) || undefined,
    expect: hook && v.expect ? Number(v.expect) : undefined,
    args: v.kind === 'script' && v.args.trim() ? v.args.trim().split('\n').map((a) => a.trim()) : undefined,
    facility: v.kind === 'syslog' && v.facility ? Number(v.facility) : undefined,
    active: v.active ?? undefined,
    note: v.note || undefined,
  }
}

function ContactForm({ contact, done }: { contact?: Contact; done: () => void }) {
  const s = contact?.spec
  const fresh: Values = { name: s?.name ?? '', kind: s?.kind ?? 'mail', address: s?.address ?? '', credential: s?.credential ?? '', signing: s?.signing ?? '', method: s?.method ?? 'POST', headers: written(s?.headers), body: s?.body ?? '', expect: s?.expect ? String(s.expect) : '', facility: s?.facility ? String(s.facility) : '', args: (s?.args ?? []).join('\n'), active: s?.active ?? null, note: s?.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, contact?.revision ?? 0, { draft: `contact-methods/${contact?.id ?? 'new'}` })
  const credentials = (useCredentials().data ?? []).filter((c) => !c.retired).map((c) => ({ id: c.id, name: c.spec.name }))
  const { home } = useZone()
  const save = useSaving({
    of: 'contact-methods',
    entry: contact,
    form,
    kept,
    spec: specOf,
    names: { 'headers[': 'headers', 'args[': 'args', 'active.': 'active' },
    done,
  })
  const preview = useChange({
    mutationFn: (v: Values) => ask(api.POST('/api/v1/contact-methods/preview', { body: { spec: specOf({ ...v, name: v.name || 'Preview' }) } })),
    onError: (e) => showFaults(e, form.setError, 'spec.', { 'headers[': 'headers', 'args[': 'args', 'active.': 'active' }),
  })
  const kind = form.watch('kind')
  const err = form.formState.errors
  return (
    <form className="form in-place" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={contact && { path: 'contact-methods', id: contact.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <Controller
        control={form.control}
        name="kind"
        render={({ field }) => (
          <TextField select label="By" value={field.value} onChange={field.onChange} error={Boolean(err.kind)} helperText={err.kind?.message}>
            {(['mail', 'sms', 'webhook', 'chat', 'syslog', 'script'] as const).map((k) => (
              <MenuItem key={k} value={k}>
                {kindWords[k]}
              </MenuItem>
            ))}
          </TextField>
        )}
      />
      <TextField label={kind === 'script' ? 'Script' : 'Address'} required error={Boolean(err.address)} helperText={err.address?.message ?? help[kind]} {...form.register('address')} />
      {(kind === 'webhook' || kind === 'chat') && <Controller control={form.control} name="credential" render={({ field }) => <Pick label="Signs in with" value={field.value} change={field.onChange} of={credentials} error={err.credential?.message} help="A credential that may be sent there; none: nothing is sent along" />} />}
      {kind === 'webhook' && (
        <>
          <TextField
            label="Body"
            multiline
            minRows={3}
            error={Boolean(err.body)}
            helperText={err.body?.message ?? 'JSON, with {what}, {headline}, {severity}, {service}, {began}, {incident}, {link}, {detail}; empty: all of them'}
            {...form.register('body')}
          />
          <Controller control={form.control} name="signing" render={({ field }) => <Pick label="Signed with the secret of" value={field.value} change={field.onChange} of={credentials} error={err.signing?.message} help="HMAC-SHA256 of time and body, in the header Kestite-Signature" />} />
          <div className="side">
            <Controller
              control={form.control}
              name="method"
              render={({ field }) => (
                <TextField select label="Method" value={field.value} onChange={field.onChange}>
                  <MenuItem value="POST">POST</MenuItem>
                  <MenuItem value="PUT">PUT</MenuItem>
                </TextField>
              )}
            />
            <TextField label="Expected status" error={Boolean(err.expect)} helperText={err.expect?.message ?? 'Empty: 200 to 299'} {...form.register('expect', { pattern: { value: /^2\d\d$/, message: 'As 202' } })} />
          </div>
          <TextField label="Headers" multiline error={Boolean(err.headers)} helperText={err.headers?.message ?? 'One a line, as X-Desk: 4'} {...form.register('headers', { validate: (v) => v.trim().split('\n').filter(Boolean).every((l) => l.includes(':')) || 'Write each line as Name: value' })} />
        </>
      )}
      {kind === 'script' && <TextField label="Arguments" multiline minRows={2} error={Boolean(err.args)} helperText={err.args?.message ?? 'One a line, with {what}, {headline}, {severity}, {service}, {began}, {incident}, {link}, {detail}. No shell reads them; the message is its input'} {...form.register('args')} />}
      {kind === 'syslog' && <TextField label="Facility" error={Boolean(err.facility)} helperText={err.facility?.message ?? 'RFC 5424, 0 to 23; empty: 16, local0'} {...form.register('facility', { pattern: { value: /^\d{1,2}$/, message: 'A number from 0 to 23' } })} />}
      <Controller control={form.control} name="active" render={({ field }) => <Week label="Only within some hours; what is due outside waits" value={field.value ?? undefined} change={(w) => field.onChange(w ?? null)} zone={home} error={err.active?.message} />} />
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <div>
        <button type="button" className="link" disabled={preview.isPending} onClick={() => preview.mutate(form.getValues())}>
          What it would send of the latest incident
        </button>
        {preview.data && (
          <div data-preview={preview.data.incident}>
            <div className="sub">
              Of {preview.data.name}, incident {preview.data.incident}; nothing is sent:
            </div>
            <code className="command">{preview.data.text}</code>
          </div>
        )}
        <Trouble error={preview.error} />
      </div>
      <FormEnd error={save.error} busy={save.isPending} save={contact ? 'Save' : 'Add'} leave={done} />
    </form>
  )
}
