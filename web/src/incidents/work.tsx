import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import Stack from '@mui/material/Stack'
import TextField from '@mui/material/TextField'
import { useEffect, useLayoutEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { Problem, api, ask } from '../api/client'
import { useMe } from '../api/queries'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { Confirm, Trouble, showFaults } from '../parts/trouble'
import { useKeep } from '../time/span'
import { useDeed, useIncidentPeople, useOpenIncidents, type Detail } from './queries'

const inner = { display: 'grid', gap: 1.5, maxWidth: 620, mb: 3, justifyItems: 'start', pl: 1.5, borderLeft: '3px solid', borderColor: 'primary.main' }

type Opened = '' | 'give' | 'note' | 'resolve' | 'review' | 'more'

/** What can be done with an incident: on its page, by its buttons and keys. */
export function Work({ data }: { data: Detail }) {
  const [opened, setOpened] = useState<Opened>('')
  const i = data.incident
  const path = { path: { id: i.id } }
  const me = useMe().data
  const acknowledge = useDeed((take: boolean) => ask(api.POST('/api/v1/incidents/{id}/acknowledgement', { params: path, body: { take } })))
  const release = useDeed(() => ask(api.DELETE('/api/v1/incidents/{id}/acknowledgement', { params: path })))
  const reopen = useDeed(() => ask(api.DELETE('/api/v1/incidents/{id}/resolution', { params: path })))
  const closes = (what: Opened) => () => setOpened((now) => (now === what ? '' : now)) // another may have been opened meanwhile
  const open = i.phase === 'open' || i.phase === 'acknowledged'
  const mine = i.acknowledged?.by_id === me?.id
  const taken = acknowledge.error instanceof Problem && acknowledge.error.status === 409
  useIncidentKeys(i.id, {
    a: () => data.may && open && !mine && acknowledge.mutate(false),
    g: () => data.may && setOpened('give'),
    w: () => data.may && setOpened('note'),
  })
  if (!data.may) return null
  const button = (what: Opened, name: string, key?: string) => (
    <Button aria-expanded={opened === what} aria-keyshortcuts={key} title={key && `Key ${key}`} onClick={() => setOpened(opened === what ? '' : what)}>
      {name}
    </Button>
  )
  return (
    <>
      <Stack direction="row" sx={{ flexWrap: 'wrap', gap: 1, my: 2 }}>
        {open && !mine && (
          <Button variant="contained" aria-keyshortcuts="A" title="Key A" disabled={acknowledge.isPending} onClick={() => acknowledge.mutate(false)}>
            Acknowledge
          </Button>
        )}
        {open && mine && <Button disabled={release.isPending} onClick={() => release.mutate()}>I am not on it any more</Button>}
        {button('give', 'Give to', 'G')}
        {button('note', 'Add a note', 'W')}
        {open ? button('resolve', 'Resolve') : button('review', i.review ? 'Change the review' : 'Review')}
        {i.phase === 'resolved' && i.resolved_by && !i.ended_at && <Button disabled={reopen.isPending} onClick={() => reopen.mutate()}>Open again</Button>}
        {button('more', 'More')}
      </Stack>
      <Confirm
        open={taken && !i.unfounded && i.acknowledged !== undefined}
        title="Somebody else is on it"
        text={`${i.acknowledged?.by ?? 'Somebody else'} acknowledged it. Take it over if that is agreed.`}
        act="Take it over"
        busy={acknowledge.isPending}
        onYes={() => acknowledge.mutate(true)}
        onNo={() => acknowledge.reset()}
      />
      <Trouble error={(taken && i.acknowledged ? null : acknowledge.error) ?? release.error ?? reopen.error} />
      {opened === 'give' && <Give data={data} done={closes('give')} />}
      {opened === 'note' && <Note data={data} done={closes('note')} />}
      {opened === 'resolve' && open && <Resolve data={data} done={closes('resolve')} />}
      {opened === 'review' && !open && <Review data={data} done={closes('review')} />}
      {opened === 'more' && <Further data={data} />}
    </>
  )
}

/** Single keys, except while something is typed; n goes to the next one that is open. */
function useIncidentKeys(id: number, keys: Record<string, () => unknown>) {
  const navigate = useNavigate()
  const keep = useKeep()
  const others = useOpenIncidents()
  useLayoutEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const on = e.target as HTMLElement
      if (e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(on.tagName) || on.closest('form, [role=dialog], [role=listbox], [role=combobox], [role=menu]')) return
      const key = e.key.toLowerCase()
      if (key === 'n') {
        const list = others.data?.items ?? []
        const here = list.findIndex((i) => i.id === id)
        const next = list[(here + 1) % Math.max(1, list.length)]
        if (next && next.id !== id) void navigate(keep(`/incidents/${next.id}`))
      } else if (keys[key]) keys[key]()
      else return
      e.preventDefault()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  })
}

type Part = { data: Detail; done: () => void }

function Give({ data, done }: Part) {
  const first = useFirst()
  const people = useIncidentPeople()
  const i = data.incident
  const give = useDeed((person: string) => ask(api.PUT('/api/v1/incidents/{id}/assignee', { params: { path: { id: i.id } }, body: { person } })))
  return (
    <Box component="form" ref={first} sx={inner} onSubmit={(e: React.FormEvent) => e.preventDefault()}>
      <Pick label="Give it to" value={i.assignee ?? ''} of={people.data ?? []} change={(person) => give.mutate(person, { onSuccess: done })} width={280} />
      <Button variant="text" onClick={done}>
        Close
      </Button>
      <Trouble error={give.error ?? people.error} />
    </Box>
  )
}

/** Puts the first field of a form that was opened into the person's hands. */
function useFirst() {
  const ref = useRef<HTMLFormElement>(null)
  useEffect(() => ref.current?.querySelector<HTMLElement>('input, textarea')?.focus(), [])
  return ref
}

function Note({ data, done }: Part) {
  const first = useFirst()
  const fresh = { text: '', public: false }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: `incidents/${data.incident.id}/note` })
  const add = useDeed((v: typeof fresh) => ask(api.POST('/api/v1/incidents/{id}/notes', { params: { path: { id: data.incident.id } }, body: v })))
  const save = (v: typeof fresh) =>
    add.mutate(v, {
      onSuccess: () => {
        kept.done()
        done()
      },
      onError: (e) => showFaults(e, form.setError),
    })
  return (
    <Box component="form" ref={first} sx={inner} onSubmit={(e) => void form.handleSubmit(save)(e)}>
      <KeptNote kept={kept} />
      <TextField label="What you know" multiline minRows={2} error={Boolean(form.formState.errors.text)} helperText={form.formState.errors.text?.message} {...form.register('text')} />
      <FormControlLabel control={<Checkbox {...form.register('public')} />} label="Customers may read it" />
      <Stack direction="row" sx={{ gap: 1 }}>
        <Button type="submit" variant="contained" disabled={add.isPending}>
          Add the note
        </Button>
        <Button variant="text" onClick={done}>
          Close
        </Button>
      </Stack>
      <Trouble error={add.error} />
    </Box>
  )
}

function Resolve({ data, done }: Part) {
  const first = useFirst()
  const fresh = { note: '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: `incidents/${data.incident.id}/resolution` })
  const resolve = useDeed((v: typeof fresh) => ask(api.POST('/api/v1/incidents/{id}/resolution', { params: { path: { id: data.incident.id } }, body: v })))
  const save = (v: typeof fresh) =>
    resolve.mutate(v, {
      onSuccess: () => {
        kept.done()
        done()
      },
      onError: (e) => showFaults(e, form.setError),
    })
  const lasts = data.incident.state !== 'up'
  return (
    <Box component="form" ref={first} sx={inner} onSubmit={(e) => void form.handleSubmit(save)(e)}>
      <p className="sub">
        {lasts ? 'It is over by itself once all is well. Resolve it by hand if it is settled all the same; it opens again if it gets worse, or comes back.' : 'It ends now.'}
      </p>
      <TextField label={lasts ? 'Why it is settled' : 'Note'} multiline minRows={2} error={Boolean(form.formState.errors.note)} helperText={form.formState.errors.note?.message} {...form.register('note')} />
      <Stack direction="row" sx={{ gap: 1 }}>
        <Button type="submit" disabled={resolve.isPending}>
          Resolve by hand
        </Button>
        <Button variant="text" onClick={done}>
          Leave it open
        </Button>
      </Stack>
      <Trouble error={resolve.error} />
    </Box>
  )
}

function Review({ data, done }: Part) {
  const first = useFirst()
  const r = data.incident.review
  const fresh = { class: r?.class ?? 'unknown', cause: r?.cause ?? '', action: r?.action ?? '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, r ? Date.parse(r.at) : 0, { draft: `incidents/${data.incident.id}/review` })
  const record = useDeed((v: typeof fresh) => ask(api.PUT('/api/v1/incidents/{id}/review', { params: { path: { id: data.incident.id } }, body: { ...v, was: r?.at } })))
  const save = (v: typeof fresh) =>
    record.mutate(v, {
      onSuccess: () => {
        kept.done()
        done()
      },
      onError: (e) => showFaults(e, form.setError),
    })
  return (
    <Box component="form" ref={first} sx={inner} onSubmit={(e) => void form.handleSubmit(save)(e)}>
      <KeptNote kept={kept} />
      <TextField select label="What it was" value={form.watch('class')} onChange={(e) => form.setValue('class', e.target.value, { shouldDirty: true })} sx={{ width: 200 }}>
        {data.classes.map((c) => (
          <MenuItem key={c} value={c}>
            {c}
          </MenuItem>
        ))}
      </TextField>
      <TextField label="Cause" multiline minRows={2} error={Boolean(form.formState.errors.cause)} helperText={form.formState.errors.cause?.message ?? 'What broke, and why'} {...form.register('cause')} />
      <TextField label="Action" multiline minRows={2} error={Boolean(form.formState.errors.action)} helperText={form.formState.errors.action?.message ?? 'What helped, and what was changed so that it stays away'} {...form.register('action')} />
      <Stack direction="row" sx={{ gap: 1 }}>
        <Button type="submit" variant="contained" disabled={record.isPending}>
          Save the review
        </Button>
        <Button variant="text" onClick={done}>
          Close
        </Button>
      </Stack>
      <Trouble error={record.error} />
    </Box>
  )
}

/** What is done seldom: severity, cause, links and files. */
function Further({ data }: { data: Detail }) {
  const i = data.incident
  const params = { path: { id: i.id } }
  const rate = useDeed((severity: typeof i.severity) => ask(api.PUT('/api/v1/incidents/{id}/severity', { params, body: { severity } })))
  const under = useDeed((cause: number) => ask(api.PUT('/api/v1/incidents/{id}/cause', { params, body: { cause } })))
  const apart = useDeed(() => ask(api.DELETE('/api/v1/incidents/{id}/cause', { params })))
  const others = useOpenIncidents()
  const attach = useDeed((file: File) =>
    ask(api.POST('/api/v1/incidents/{id}/files', { params: { ...params, query: { name: file.name } }, body: file as unknown as string, bodySerializer: (b) => b as unknown as BodyInit, headers: { 'Content-Type': 'application/octet-stream' } })),
  )
  return (
    <Box sx={inner}>
      <TextField select label="Severity" value={i.severity} onChange={(e) => rate.mutate(e.target.value as typeof i.severity)} helperText="One that you choose stays, whatever the state does" sx={{ width: 280 }}>
        {['critical', 'major', 'minor'].map((s) => (
          <MenuItem key={s} value={s}>
            {s}
          </MenuItem>
        ))}
      </TextField>
      {i.cause !== undefined ? (
        <Button onClick={() => apart.mutate()} disabled={apart.isPending}>
          Take it out from under {i.cause_name}
        </Button>
      ) : (
        <Pick label="Put it under" value="" of={(others.data?.items ?? []).filter((o) => o.id !== i.id).map((o) => ({ id: String(o.id), name: `${o.name}, incident ${o.id}` }))} change={(id) => id && under.mutate(Number(id))} help="Another open incident that is its cause" width={280} />
      )}
      <AddLink id={i.id} />
      <Button component="label" disabled={attach.isPending}>
        {attach.isPending ? 'Attaching…' : 'Attach a file'}
        <input
          type="file"
          className="unseen"
          onChange={(e) => {
            const file = e.target.files?.[0]
            if (file) attach.mutate(file)
            e.target.value = ''
          }}
        />
      </Button>
      <span className="sub">A picture, a PDF, text or an archive, 2 MiB at most</span>
      <Trouble error={rate.error ?? under.error ?? apart.error ?? attach.error} />
    </Box>
  )
}

function AddLink({ id }: { id: number }) {
  const fresh = { address: '', title: '' }
  const form = useForm({ defaultValues: fresh })
  const link = useDeed((v: typeof fresh) => ask(api.POST('/api/v1/incidents/{id}/links', { params: { path: { id } }, body: v })))
  return (
    <Box component="form" sx={{ display: 'flex', gap: 1, alignItems: 'flex-start' }} onSubmit={(e) => void form.handleSubmit((v) => link.mutate(v, { onSuccess: () => form.reset(fresh), onError: (e) => showFaults(e, form.setError) }))(e)}>
      <TextField label="Link" placeholder="https://…" error={Boolean(form.formState.errors.address)} helperText={form.formState.errors.address?.message} {...form.register('address')} />
      <TextField label="What it is" {...form.register('title')} />
      <Button type="submit" disabled={link.isPending}>
        Add the link
      </Button>
    </Box>
  )
}
