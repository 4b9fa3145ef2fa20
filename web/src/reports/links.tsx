import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useForm } from '../parts/form'
import { Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'

type Link = Schemas['ReportLinkView']

/** What links open: a report, or a customer's Standing. */
const kinds = {
  report: { links: '/api/v1/reports/{id}/links', one: '/api/v1/reports/{id}/links/{note}', says: 'reads this report' },
  customer: { links: '/api/v1/customers/{id}/links', one: '/api/v1/customers/{id}/links/{note}', says: 'reads how what was promised to the customer stands' },
} as const

/** Links by which something can be read without an account: made, watched, revoked. */
export default function Links({ of = 'report', report: id }: { of?: keyof typeof kinds; report: string }) {
  const paths = kinds[of]
  const links = useQuery({ queryKey: ['report-links', of, id], queryFn: () => ask(api.GET(paths.links, { params: { path: { id } } })).then((l) => l.items) })
  const { zone } = useZone()
  const [now] = useState(() => Date.now())
  const form = useForm({ defaultValues: { whom: '', days: '90' } })
  const make = useChange({
    mutationFn: (v: { whom: string; days: string }) => ask(api.POST(paths.links, { params: { path: { id } }, body: { whom: v.whom.trim(), days: Number(v.days) } })),
    again: ['report-links'],
    onSuccess: () => form.reset(),
    onError: (e) => showFaults(e, form.setError),
  })
  const revoke = useChange({ mutationFn: (note: number) => ask(api.DELETE(paths.one, { params: { path: { id, note } } })), again: ['report-links'] })
  const err = form.formState.errors
  const state = (l: Link) => (l.revoked_at ? `revoked by ${l.revoked_by}` : Date.parse(l.until) < now ? 'its time has passed' : `good until ${shortTime(l.until, zone)}`)
  return (
    <section aria-label="Links">
      <p className="sub">Who has a link {paths.says} without an account. It is shown once; what is opened is written down.</p>
      <Trouble error={links.error ?? revoke.error} />
      {links.data?.map((l) => (
        <div key={l.id} className="entry low" data-link={l.revoked_at ? 'revoked' : 'good'}>
          <span className="name">{l.whom}</span>{' '}
          <span className="sub">
            {state(l)} · made by {l.made_by} · {l.uses.length === 0 ? 'not opened yet' : `opened ${l.uses.length === 1 ? 'once' : `${l.uses.length} times`}, last ${shortTime(l.uses[0]?.at ?? l.made_at, zone)} from ${l.uses[0]?.source ?? ''} (${l.uses[0]?.form ?? ''})`}
          </span>{' '}
          {!l.revoked_at && Date.parse(l.until) > now && (
            <button type="button" className="link" disabled={revoke.isPending} onClick={() => revoke.mutate(l.id)}>
              revoke
            </button>
          )}
        </div>
      ))}
      {make.data && (
        <div className="handed" role="status" data-made-link>
          <p>Copy it now: it is not shown again.</p>
          <code className="command">{location.origin + make.data.path}</code>
        </div>
      )}
      <form className="in-a-row" aria-label="A link" onSubmit={(e) => void form.handleSubmit((v) => make.mutate(v))(e)}>
        <TextField label="For whom" required error={Boolean(err.whom)} helperText={err.whom?.message} {...form.register('whom', { validate: (v) => v.trim() !== '' || 'Say for whom' })} />
        <TextField label="Good for" sx={{ width: 130 }} slotProps={{ input: { endAdornment: 'days' } }} error={Boolean(err.days)} helperText={err.days?.message} {...form.register('days', { validate: (v) => (/^\d+$/.test(v) && Number(v) > 0) || 'A number' })} />
        <Button type="submit" disabled={make.isPending} sx={{ height: 40 }}>
          Make a link
        </Button>
      </form>
      <Trouble error={make.error} />
    </section>
  )
}
