import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { Controller } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, type Schemas } from '../api/client'
import { useAgreements, useParties } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { Awaited, Trouble } from '../parts/trouble'
import { useLayouts } from './layout-pick'
import { Listing } from './listing'
import { LogoPick } from './logo-pick'

type Layout = Schemas['DefinedLayoutSpec']
type Spec = Schemas['LayoutSpec']
type Values = { name: string; sections: string[]; show: string; statistics: string[]; paper: string; landscape: boolean; publisher: string; logo: string; accent: string; note: string }

const sections: [string, string][] = [
  ['time', 'The period’s time and figures'],
  ['outages', 'Outages'],
  ['maintenance', 'Work that was done'],
  ['adjustments', 'Adjustments'],
  ['objectives', 'Promises beside availability'],
  ['response', 'Response times'],
  ['trend', 'The last periods'],
  ['incidents', 'Incidents'],
  ['credits', 'Credits'],
  ['claims', 'What suppliers owe'],
  ['remark', 'Remark'],
  ['promise', 'What was promised'],
  ['method', 'How it was measured'],
]
const usual = sections.map(([s]) => s).filter((s) => s !== 'claims')
const statistics: [string, string][] = [
  ['p50', 'median'],
  ['p90', '90th percentile'],
  ['p95', '95th percentile'],
  ['p99', '99th percentile'],
  ['longest', 'longest'],
]
const shows: Record<string, string> = { both: 'graphs and tables', graphs: 'graphs', tables: 'tables' }
const papers: Record<string, string> = { a4: 'A4', letter: 'Letter' }

/** How reports look, and what they tell, for an audience. */
export function Layouts() {
  const list = useLayouts()
  const customers = useParties('customer').data ?? []
  const contracts = useParties('contract').data ?? []
  if (!list.data) return <Awaited error={list.error} />
  const audience = (id: string) => [...customers, ...contracts].filter((p) => !p.retired && 'layout' in p.spec && p.spec.layout === id).map((p) => p.spec.name)
  return (
    <Listing<Layout>
      title="Layouts"
      one="layout"
      note="How reports look and what they tell, for an audience: customers and contracts name one. Without one a report has all sections but what suppliers owe, on A4. What is published stays as it was laid out."
      list={list.data}
      columns={['Name', 'Sections', 'Paper', 'For']}
      cells={(l) => [
        <>
          <b>{l.spec.name}</b>
          {l.spec.note && <div className="sub">{l.spec.note}</div>}
        </>,
        (l.spec.sections ?? usual).length === usual.length && !l.spec.sections?.includes('claims') ? 'all but what suppliers owe' : (l.spec.sections ?? usual).map((s) => sections.find(([k]) => k === s)?.[1] ?? s).join(', '),
        `${papers[l.spec.paper ?? 'a4']}${l.spec.landscape ? ', landscape' : ''}`,
        audience(l.id).join(', ') || 'nobody yet',
      ]}
      form={(l, done) => <LayoutForm layout={l} done={done} />}
      of="layouts"
    />
  )
}

function LayoutForm({ layout, done }: { layout?: Layout; done: () => void }) {
  const s = layout?.spec
  const fresh: Values = { name: s?.name ?? '', sections: s?.sections ?? usual, show: s?.show ?? 'both', statistics: s?.statistics ?? ['p50', 'p95'], paper: s?.paper ?? 'a4', landscape: s?.landscape ?? false, publisher: s?.publisher ?? '', logo: s?.logo ?? '', accent: s?.accent ?? '', note: s?.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, layout?.revision ?? 0, { draft: `layouts/${layout?.id ?? 'new'}` })
  const spec = (v: Values): Spec => ({
    name: v.name.trim(),
    sections: v.sections.join() === usual.join() ? undefined : v.sections,
    show: v.show as Spec['show'],
    statistics: v.statistics.length ? v.statistics : undefined,
    paper: v.paper as Spec['paper'],
    landscape: v.landscape || undefined,
    publisher: v.publisher.trim() || undefined,
    logo: v.logo || undefined,
    accent: v.accent.trim().toLowerCase() || undefined,
    note: v.note || undefined,
  })
  const save = useSaving({ of: 'layouts', entry: layout, form, kept, spec, names: { 'sections[': 'sections', 'statistics[': 'statistics' }, done })
  const err = form.formState.errors
  return (
    <form className="form in-place" aria-label="Layout" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={layout && { path: 'layouts', id: layout.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <Controller control={form.control} name="sections" render={({ field }) => <SectionsEdit value={field.value} change={field.onChange} error={err.sections?.message} />} />
      <div className="side">
        <Choice form={form} name="show" label="Shown by" of={shows} />
        <Choice form={form} name="paper" label="Paper" of={papers} />
        <Controller control={form.control} name="landscape" render={({ field }) => <FormControlLabel label="Landscape" control={<Checkbox checked={field.value} onChange={(e) => field.onChange(e.target.checked)} />} />} />
      </div>
      <Controller
        control={form.control}
        name="statistics"
        render={({ field }) => (
          <fieldset aria-label="Of response times">
            <legend>Of response times</legend>
            <div className="in-a-row tight">
            {statistics.map(([key, name]) => (
              <FormControlLabel key={key} label={name} control={<Checkbox size="small" checked={field.value.includes(key)} onChange={(e) => field.onChange(statistics.map(([k]) => k).filter((k) => (k === key ? e.target.checked : field.value.includes(k))))} />} />
            ))}
            </div>
          </fieldset>
        )}
      />
      <div className="side">
        <TextField label="Published by" error={Boolean(err.publisher)} helperText={err.publisher?.message ?? 'Empty: the organisation'} {...form.register('publisher')} />
        <TextField label="Colour of headings" placeholder="#1f5f6b" error={Boolean(err.accent)} helperText={err.accent?.message ?? 'Empty: grey lines'} slotProps={{ inputLabel: { shrink: true } }} {...form.register('accent')} />
      </div>
      <Controller control={form.control} name="logo" render={({ field }) => <LogoPick label="Publisher’s logo" value={field.value} change={field.onChange} error={err.logo?.message} />} />
      <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={layout ? 'Save' : 'Add'} leave={done}>
        <Look spec={() => spec(form.getValues())} />
      </FormEnd>
    </form>
  )
}

function Choice({ form, name, label, of }: { form: ReturnType<typeof useForm<Values>>; name: 'show' | 'paper'; label: string; of: Record<string, string> }) {
  return (
    <Controller
      control={form.control}
      name={name}
      render={({ field }) => (
        <TextField select label={label} {...field}>
          {Object.entries(of).map(([value, text]) => (
            <MenuItem key={value} value={value}>
              {text}
            </MenuItem>
          ))}
        </TextField>
      )}
    />
  )
}

/** Which sections there are, and in which order. */
function SectionsEdit({ value, change, error }: { value: string[]; change: (v: string[]) => void; error?: string }) {
  const rows = [...value, ...sections.map(([s]) => s).filter((s) => !value.includes(s))]
  const move = (s: string, by: number) => {
    const at = value.indexOf(s)
    const next = value.filter((x) => x !== s)
    next.splice(at + by, 0, s)
    change(next)
  }
  return (
    <fieldset aria-label="Sections">
      <legend>Sections, in the order in which they stand</legend>
      <div>
      {rows.map((s) => {
        const at = value.indexOf(s)
        const name = sections.find(([k]) => k === s)?.[1] ?? s
        return (
          <div key={s} className="section-row">
            <FormControlLabel label={name} control={<Checkbox size="small" checked={at >= 0} onChange={(e) => change(e.target.checked ? [...value, s] : value.filter((x) => x !== s))} />} />
            {at > 0 && (
              <button type="button" className="link" aria-label={`${name}: earlier`} onClick={() => move(s, -1)}>
                earlier
              </button>
            )}
            {at >= 0 && at < value.length - 1 && (
              <button type="button" className="link" aria-label={`${name}: later`} onClick={() => move(s, 1)}>
                later
              </button>
            )}
            {s === 'claims' && at >= 0 && <span className="sub">whoever reads the report sees what your suppliers owe you</span>}
          </div>
        )
      })}
      </div>
      {error && <div className="bad">{error}</div>}
    </fieldset>
  )
}

/** Prints the latest finished period of an agreement as the layout would, saved or not. */
function Look({ spec }: { spec: () => Spec }) {
  const agreements = (useAgreements().data ?? []).filter((a) => !a.retired)
  const [of, setOf] = useState('')
  const look = useChange<Blob, undefined>({
    mutationFn: async () => {
      const { response, error } = await api.POST('/api/v1/layouts/preview', { body: { spec: spec(), agreement: of || (agreements[0]?.id ?? '') }, parseAs: 'stream' })
      if (error) throw new Error(error.errors?.[0]?.message ?? error.detail ?? 'It cannot be printed.')
      return response.blob()
    },
    onSuccess: (pdf) => {
      const link = document.createElement('a')
      link.href = URL.createObjectURL(pdf)
      link.download = 'preview.pdf'
      link.click()
      URL.revokeObjectURL(link.href)
    },
  })
  if (agreements.length === 0) return null
  return (
    <>
      <TextField select label="Try it with" value={of || agreements[0]?.id} onChange={(e) => setOf(e.target.value)} sx={{ width: 240 }}>
        {agreements.map((a) => (
          <MenuItem key={a.id} value={a.id}>
            {a.spec.name}
          </MenuItem>
        ))}
      </TextField>
      <Button disabled={look.isPending} onClick={() => look.mutate(undefined)}>
        Print a draft
      </Button>
      <Trouble error={look.error} />
    </>
  )
}
