import Box from '@mui/material/Box'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import TextField from '@mui/material/TextField'
import { Suspense, lazy, useState } from 'react'
import { Controller } from 'react-hook-form'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useAgreements, useMay, useParties, useServices, type Party, type PartyKind } from '../api/queries'
import { ReceiversPick } from '../notices/receivers-pick'
import { keyOf, recipientOf } from '../notices/words'
import { PlanPick, usePlanName } from '../notices/plan-pick'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { PartyPick, usePartyName } from '../parts/party'
import { useSaving } from '../parts/save'
import { Awaited } from '../parts/trouble'
import { useKeep, useZone } from '../time/span'
import { Listing } from './listing'
import { ScheduleFields, scheduleOf, scheduleValues } from './schedule'
import { ContactLines } from './contact-lines'
import { LayoutPick } from './layout-pick'
import { LogoPick } from './logo-pick'
import { StandingApproval } from './standing-approval'
import { TermFields, termValues, termsOf } from './terms'

const Links = lazy(() => import('../reports/links'))

/** Who owns services. */
export function Teams() {
  const services = useServices()
  return (
    <Parties
      kind="team"
      title="Teams"
      note="A team owns services. A manager or operator can be limited to the services of teams: they see everything and change what is theirs."
      has="Owns"
      of={(id) => (services.data ?? []).filter((s) => !s.retired && s.spec.owner === id).map((s) => ({ name: s.spec.name, path: `/services/${s.id}` }))}
    />
  )
}

/** Who was promised something. */
export function Customers() {
  const agreements = useAgreements()
  return (
    <Parties
      kind="customer"
      title="Customers"
      note="Who was promised something. A person with the role customer belongs to one, and sees how its agreements stand and its published reports, and nothing else."
      has="Was promised"
      of={(id) => (agreements.data ?? []).filter((a) => !a.retired && a.spec.customer === id).map((a) => ({ name: a.spec.name, path: `/agreements/${a.id}` }))}
    />
  )
}

/** What was promised together. */
export function Contracts() {
  const agreements = useAgreements()
  return (
    <Parties
      kind="contract"
      title="Contracts"
      note="A contract is agreements with one customer that belong together. Clauses that change within a period end one agreement and begin another under the same contract, and both are accounted."
      has="Its agreements"
      of={(id) => (agreements.data ?? []).filter((a) => !a.retired && a.spec.contract === id).map((a) => ({ name: [a.spec.name, a.spec.from && `from ${a.spec.from}`, a.spec.until && `until ${a.spec.until}`].filter(Boolean).join(' '), path: `/agreements/${a.id}` }))}
    />
  )
}

type Props = { kind: PartyKind; title: string; note: string; has: string; of: (id: string) => { name: string; path: string }[] }

function Parties({ kind, title, note, has, of }: Props) {
  const parties = useParties(kind)
  const customer = usePartyName('customer')
  const plan = usePlanName()
  const may = useMay()('publish')
  const keep = useKeep()
  const [shared, setShared] = useState<string>()
  if (!parties.data) return <Awaited error={parties.error} />
  return (
    <Listing<Party>
      title={title}
      one={kind}
      note={note}
      list={parties.data}
      columns={['Name', has]}
      cells={(p) => [
        <>
          {p.spec.name}
          {'report_approval' in p.spec && p.spec.report_approval && <div className="sub">reports approved by a second person</div>}
          {'customer' in p.spec && p.spec.customer && <div className="sub">with {customer(p.spec.customer)}</div>}
          {'notice_plan' in p.spec && p.spec.notice_plan && <div className="sub">told by {plan(p.spec.notice_plan)}</div>}
          {'schedule' in p.spec && p.spec.schedule?.publish && <StandingApproval customer={p.id} name={p.spec.name} />}
          {'contacts' in p.spec &&
            p.spec.contacts?.map((c) => (
              <div className="sub" key={`${c.name} ${c.mail ?? ''}`}>
                {[c.name, c.role].filter(Boolean).join(', ')}
                {c.mail && (
                  <>
                    , <a href={`mailto:${c.mail}`}>{c.mail}</a>
                  </>
                )}
                {c.phone && `, ${c.phone}`}
              </div>
            ))}
          {p.spec.note && <div className="sub">{p.spec.note}</div>}
          {kind === 'customer' && may && !p.retired && (
            <details className="more" onToggle={(e) => e.currentTarget.open && setShared(p.id)}>
              <summary>Links to how it stands</summary>
              {shared === p.id && (
                <Suspense fallback={null}>
                  <Links of="customer" report={p.id} />
                </Suspense>
              )}
            </details>
          )}
          {kind === 'contract' && may && (
            <div className="sub">
              <a href={`/api/v1/contracts/${p.id}/archive`} download className="link">
                all that was published under it
              </a>
            </div>
          )}
        </>,
        of(p.id).map((x, i) => (
          <span key={x.path}>
            {i > 0 && ', '}
            <Link to={keep(x.path)}>{x.name}</Link>
          </span>
        )),
      ]}
      form={(p, done) => <PartyForm kind={kind} party={p} done={done} />}
      of={`${kind}s`}
    />
  )
}

function PartyForm({ kind, party, done }: { kind: PartyKind; party?: Party; done: () => void }) {
  const { home } = useZone()
  const fresh = { name: party?.spec.name ?? '', customer: party && 'customer' in party.spec ? (party.spec.customer ?? '') : '', notice_plan: party && 'notice_plan' in party.spec ? (party.spec.notice_plan ?? '') : '', note: party?.spec.note ?? '', objection_days: party && 'objection_days' in party.spec && party.spec.objection_days ? String(party.spec.objection_days) : '', tell: party && 'tell' in party.spec ? (party.spec.tell ?? []).map(keyOf) : ([] as string[]), report_approval: party !== undefined && 'report_approval' in party.spec && party.spec.report_approval === true, attach: party !== undefined && 'attach' in party.spec && party.spec.attach === true, contacts: party && 'contacts' in party.spec ? (party.spec.contacts ?? []) : ([] as Schemas['PersonOf'][]), layout: party && 'layout' in party.spec ? (party.spec.layout ?? '') : '', logo: party && 'logo' in party.spec ? (party.spec.logo ?? '') : '', ...scheduleValues(party && 'schedule' in party.spec ? party.spec.schedule : undefined), ...termValues(party && 'credits' in party.spec ? party.spec.credits : undefined) }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, party?.revision ?? 0, { draft: `${kind}s/${party?.id ?? 'new'}` })
  const save = useSaving({
    of: `${kind}s`,
    entry: party,
    form,
    kept,
    spec: (v) => ({ name: v.name, note: v.note || undefined, ...(kind === 'contract' && { customer: v.customer || undefined, credits: termsOf(v), layout: v.layout || undefined }), ...(kind === 'customer' && { report_approval: v.report_approval || undefined, objection_days: v.objection_days.trim() ? Number(v.objection_days) : undefined, tell: v.tell.length ? v.tell.map(recipientOf) : undefined, schedule: scheduleOf(v, home), attach: v.attach || undefined, contacts: v.contacts.length ? v.contacts : undefined, layout: v.layout || undefined, logo: v.logo || undefined }), ...(kind === 'team' && { notice_plan: v.notice_plan || undefined }) }),
    names: { 'credits.': '', 'tell[': 'tell', 'schedule.holiday_lists[': 'lists', 'schedule.': '', 'contacts[': 'contacts' },
    done,
  })
  const err = form.formState.errors
  return (
    <Box component="form" className="form" sx={{ margin: '12px 0 24px' }} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={party && { path: `${kind}s`, id: party.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      {kind === 'contract' && <Controller control={form.control} name="customer" render={({ field }) => <PartyPick kind="customer" label="With the customer" blank="internal" value={field.value} change={field.onChange} error={err.customer?.message} />} />}
      {kind === 'team' && <Controller control={form.control} name="notice_plan" render={({ field }) => <PlanPick label="Who is told of incidents of its services" value={field.value} change={field.onChange} error={err.notice_plan?.message} />} />}
      {kind === 'customer' && (
        <>
          <ScheduleFields form={form} zone={home} />
          <Controller control={form.control} name="report_approval" render={({ field }) => <FormControlLabel label="A second person approves its reports before they are published" control={<Checkbox checked={field.value} onChange={(e) => field.onChange(e.target.checked)} />} />} />
          <Controller control={form.control} name="tell" render={({ field }) => <ReceiversPick value={field.value} change={field.onChange} ref={field.ref} error={err.tell?.message} help="is sent its reports when they are published" />} />
          <Controller control={form.control} name="attach" render={({ field }) => <FormControlLabel label="What is sent by mail has the report with it as PDF" control={<Checkbox checked={field.value} onChange={(e) => field.onChange(e.target.checked)} />} />} />
          <TextField label="Objections within" error={Boolean(err.objection_days)} helperText={err.objection_days?.message ?? 'of a report; empty: without end'} slotProps={{ input: { endAdornment: 'days' }, inputLabel: { shrink: true } }} {...form.register('objection_days', { validate: (v) => /^\d*$/.test(v.trim()) || 'A whole number' })} />
        </>
      )}
      {kind === 'customer' && (
        <>
          <Controller control={form.control} name="layout" render={({ field }) => <LayoutPick value={field.value} change={field.onChange} blank="as usual" error={err.layout?.message} />} />
          <Controller control={form.control} name="logo" render={({ field }) => <LogoPick label="Its logo on its reports" value={field.value} change={field.onChange} error={err.logo?.message} />} />
          <Controller control={form.control} name="contacts" render={({ field }) => <ContactLines value={field.value} change={field.onChange} error={(err.contacts as { message?: string } | undefined)?.message} />} />
        </>
      )}
      {kind === 'contract' && <TermFields form={form} />}
      {kind === 'contract' && <Controller control={form.control} name="layout" render={({ field }) => <LayoutPick value={field.value} change={field.onChange} blank="the customer’s" error={err.layout?.message} />} />}
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={party ? 'Save' : 'Add'} leave={done} />
    </Box>
  )
}
