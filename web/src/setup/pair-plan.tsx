import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import { Fragment, useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useKinds, useLocations, useMayDefine, usePairPlans, useServices } from '../api/queries'
import { Export } from '../parts/export'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Pick } from '../parts/pick'
import { Awaited, Trouble } from '../parts/trouble'
import { LimitRow } from '../services/limit-fields'
import { duration } from '../time/format'
import { useKeep } from '../time/span'
import { pairKinds, shapes, type Plan } from './pair-words'
import { SetupHead } from './head'
import { usePairsOf } from './queries'

type Spec = Schemas['PairPlanSpec']
type Pair = Schemas['PairOf']
type Override = Schemas['PairOverride']
type Kind = keyof typeof pairKinds
type Location = Schemas['DefinedLocationSpec']

/** All fields of a plan, those too that say nothing. */
type Values = { [F in keyof Required<Spec>]: Spec[F] }

const paces = [30, 60, 120, 300, 600, 1800, 3600]
const ordered = (p: Pair): Pair => (p.b < p.a ? { a: p.b, b: p.a } : { a: p.a, b: p.b })
const same = (p: Pair, q: Pair) => ordered(p).a === ordered(q).a && ordered(p).b === ordered(q).b

/** Plans pairs: counted, and compared with what is kept, before anything is saved. */
export function PairPlanPage() {
  const { id } = useParams()
  const plans = usePairPlans()
  const places = useLocations()
  const services = useServices()
  if (!plans.data || !places.data || !services.data) return <Awaited error={plans.error ?? places.error ?? services.error} />
  const plan = plans.data.find((p) => p.id === id)
  if (id && !plan) return <div className="empty">There is no pair plan {id}.</div>
  return <Form key={plan?.id ?? ''} plan={plan} places={places.data.filter((l) => !l.retired)} services={services.data.filter((s) => !s.retired)} />
}

function Form({ plan, places, services }: { plan: Plan | undefined; places: Location[]; services: Schemas['DefinedServiceSpec'][] }) {
  const reachable = places.filter((l) => l.spec.address)
  const none = { name: '', service: '', kinds: ['path'], shape: 'full', locations: reachable.map((l) => l.id), interval_s: 300 } satisfies Spec
  const fresh: Values = { both_ways: undefined, locations: undefined, on_demand: undefined, note: undefined, overrides: undefined, pairs: undefined, ...(plan?.spec ?? none) }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, plan?.revision ?? 0, { draft: `pair-plans/${plan?.id ?? 'new'}` })
  const spec: Spec = form.watch()
  const [open, setOpen] = useState<Pair | undefined>()
  const may = useMayDefine()
  const navigate = useNavigate()
  const keep = useKeep()
  const pairs = spec.pairs ?? []
  const locations = spec.locations ?? []
  const picked = spec.shape === 'picked'
  const ready = spec.service !== '' && spec.kinds.length > 0 && (picked ? pairs.length > 0 : locations.length > 1)
  const asked: Spec = { ...spec, name: spec.name.trim() || 'unnamed', locations: picked ? undefined : locations, pairs: picked ? pairs : undefined }
  const preview = usePairsOf(plan?.id, asked, ready && may)
  const save = useChange({
    mutationFn: async () => {
      const body = { ...asked, name: spec.name.trim() }
      if (plan) await ask(api.PUT('/api/v1/pair-plans/{id}', { params: { path: { id: plan.id } }, body: { revision: plan.revision, spec: body } }))
      else await ask(api.POST('/api/v1/pair-plans', { body: { spec: body } }))
    },
    again: 'all',
    kept,
    onSuccess: () => navigate(keep('/set-up/pairs')),
  })
  const change = (part: Partial<Spec>) => form.reset({ ...form.getValues(), ...part }, { keepDefaultValues: true })
  const name = (id: string) => places.find((l) => l.id === id)?.spec.name ?? id
  const checks = ready ? (preview.data?.checks ?? []) : []
  const override = (p: Pair): Override => (spec.overrides ?? []).find((o) => same(o, p)) ?? ordered(p)
  const setOverride = (o: Override) => {
    const says = o.skip || o.interval_s || (o.kinds ?? []).length > 0 || (o.limits ?? []).length > 0
    const rest = (spec.overrides ?? []).filter((x) => !same(x, o))
    change({ overrides: says ? [...rest, o] : rest })
  }
  // Pairs that are left out have no check, but stay in the table so that they can come back.
  const rows = [...checks.map((c) => c.pair), ...(spec.overrides ?? []).map(ordered)].filter((p, i, all) => all.findIndex((q) => same(p, q)) === i).sort((p, q) => `${p.a} ${p.b}`.localeCompare(`${q.a} ${q.b}`))
  return (
    <>
      <SetupHead title={plan ? plan.spec.name : 'Plan pairs'}>
        {checks.length > 0 && (
          <Export name="pairs" columns={['from', 'to', 'target', 'kind', 'every_s', 'does', 'check']} rows={checks.map((c) => [name(c.from), name(c.to), c.spec.target, c.spec.kind, c.spec.interval_s, c.does, c.check])} />
        )}
      </SetupHead>
      {reachable.length < 2 && <p className="trouble">At least two locations need an address. Say under Locations, Edit, where others find each.</p>}
      <form
        className="form"
        onSubmit={(e) => {
          e.preventDefault()
          save.mutate()
        }}
>
        <KeptNote kept={kept} of={plan && { path: 'pair-plans', id: plan.id }} />
        <fieldset disabled={!may}>
          <legend>What</legend>
          <div className="side">
            <TextField label="Name" required value={spec.name} onChange={(e) => change({ name: e.target.value })} />
            <Pick label="Of which service" required disabled={Boolean(plan)} value={spec.service} change={(id) => change({ service: id })} of={services.map((s) => ({ id: s.id, name: s.spec.name }))} />
          </div>
          <div>
            {(Object.entries(pairKinds) as [Kind, string][]).map(([k, text]) => (
              <FormControlLabel key={k} label={text} control={<Checkbox size="small" checked={spec.kinds.includes(k)} onChange={(_, on) => change({ kinds: on ? [...spec.kinds, k] : spec.kinds.filter((x) => x !== k) })} />} />
            ))}
            <FormControlLabel label="from both ends" control={<Checkbox size="small" checked={spec.both_ways ?? false} onChange={(_, on) => change({ both_ways: on || undefined })} />} />
          </div>
          <div className="side">
            <TextField select label="When" value={spec.on_demand ? 'asked' : 'schedule'} onChange={(e) => change({ on_demand: e.target.value === 'asked' || undefined })}>
              <MenuItem value="schedule">on schedule</MenuItem>
              <MenuItem value="asked">when somebody runs it</MenuItem>
            </TextField>
            {!spec.on_demand && <Pace label="Every" value={spec.interval_s} change={(s) => change({ interval_s: s })} />}
          </div>
        </fieldset>
        <fieldset disabled={!may}>
          <legend>Between which</legend>
          <TextField select label="Pairs" value={spec.shape} onChange={(e) => change({ shape: e.target.value as Spec['shape'] })}>
            {Object.entries(shapes).map(([s, text]) => (
              <MenuItem key={s} value={s}>
                {text}
              </MenuItem>
            ))}
          </TextField>
          <div>
            {picked
              ? reachable.flatMap((a, i) =>
                  reachable.slice(i + 1).map((b) => {
                    const pair = ordered({ a: a.id, b: b.id })
                    const on = pairs.some((p) => same(p, pair))
                    return <FormControlLabel key={`${a.id} ${b.id}`} label={`${a.spec.name} – ${b.spec.name}`} control={<Checkbox size="small" checked={on} onChange={() => change({ pairs: on ? pairs.filter((p) => !same(p, pair)) : [...pairs, pair] })} />} />
                  }),
                )
              : places.map((l) => (
                  <FormControlLabel
                    key={l.id}
                    label={`${l.spec.name}${l.spec.region ? `, ${l.spec.region}` : ''}${l.spec.address ? '' : ' (no address)'}`}
                    disabled={!l.spec.address}
                    control={<Checkbox size="small" checked={locations.includes(l.id)} onChange={(_, on) => change({ locations: on ? [...locations, l.id] : locations.filter((x) => x !== l.id) })} />}
                  />
                ))}
          </div>
          <Trouble error={ready ? preview.error : undefined} />
          {ready && preview.data && !preview.error && (
            <div className="consequence sub" data-count={preview.data.pairs}>
              {preview.data.pairs} {preview.data.pairs === 1 ? 'pair' : 'pairs'}, {checks.filter((c) => c.does !== 'retired').length} {checks.filter((c) => c.does !== 'retired').length === 1 ? 'check' : 'checks'}.{' '}
              {spec.on_demand ? 'A run measures each once.' : `${preview.data.words}.`} {doing(checks.map((c) => c.does))}
            </div>
          )}
        </fieldset>
        {rows.length > 0 && (
          <Box component="fieldset" sx={{ maxWidth: '900px' }}>
            <legend>Pair by pair</legend>
            <Table>
              <TableHead>
                <TableRow>
                  <TableCell>Pair</TableCell>
                  <TableCell>Kinds</TableCell>
                  <TableCell>Every</TableCell>
                  <TableCell>Saving</TableCell>
                  <TableCell aria-hidden />
                </TableRow>
              </TableHead>
              <TableBody>
                {rows.map((p) => {
                  const o = override(p)
                  const of = checks.filter((c) => same(c.pair, p))
                  const shown = open && same(open, p)
                  return (
                    <Fragment key={`${p.a} ${p.b}`}>
                      <TableRow data-pair={`${p.a} ${p.b}`}>
                        <TableCell>
                          {name(p.a)} – {name(p.b)}
                        </TableCell>
                        <TableCell>{o.skip ? <span className="sub">left out</span> : ((o.kinds ?? []).length ? (o.kinds as Kind[]) : spec.kinds).map((k) => pairKinds[k]).join(', ')}</TableCell>
                        <TableCell>{o.skip || spec.on_demand ? '–' : duration((o.interval_s || spec.interval_s) * 1000)}</TableCell>
                        <TableCell className="sub">{doing(of.map((c) => c.does)) || '–'}</TableCell>
                        <TableCell>
                          {may && (
                            <button type="button" className="link" aria-expanded={Boolean(shown)} onClick={() => setOpen(shown ? undefined : p)}>
                              {shown ? 'close' : (spec.overrides ?? []).some((x) => same(x, p)) ? 'differs' : 'do it differently'}
                            </button>
                          )}
                        </TableCell>
                      </TableRow>
                      {shown && (
                        <TableRow>
                          <TableCell colSpan={5}>
                            <Differently value={o} plan={spec} change={setOverride} />
                          </TableCell>
                        </TableRow>
                      )}
                    </Fragment>
                  )
                })}
              </TableBody>
            </Table>
          </Box>
        )}
        <Trouble error={save.error} />
        {may && (
          <div>
            <Button type="submit" variant="contained" disabled={!ready || spec.name.trim() === '' || save.isPending || Boolean(preview.error)}>
              {plan ? `Save as revision ${plan.revision + 1}` : spec.on_demand ? 'Save the plan' : 'Start measuring'}
            </Button>
          </div>
        )}
      </form>
    </>
  )
}

/** What saving does, summed up: "3 new, 1 retired". */
function doing(list: Schemas['PairCheck']['does'][]): string {
  const words = { new: 'new', changed: 'changed', restored: 'restored', retired: 'retired', elsewhere: 'measured by another check already', kept: 'unchanged' } as const
  return Object.entries(words)
    .map(([does, text]) => [list.filter((d) => d === does).length, text] as const)
    .filter(([n]) => n > 0)
    .map(([n, text]) => `${n} ${text}`)
    .join(', ')
}

function Pace({ label, value, change, none }: { label: string; value: number; change: (s: number) => void; none?: string }) {
  return (
    <TextField select label={label} value={value} onChange={(e) => change(Number(e.target.value))} slotProps={{ inputLabel: { shrink: true } }}>
      {none && <MenuItem value={0}>{none}</MenuItem>}
      {[...new Set([...paces, ...(value ? [value] : [])])]
        .sort((a, b) => a - b)
        .map((s) => (
          <MenuItem key={s} value={s}>
            {duration(s * 1000)}
          </MenuItem>
        ))}
    </TextField>
  )
}

/** What one pair does differently. */
function Differently({ value: o, plan, change }: { value: Override; plan: Spec; change: (o: Override) => void }) {
  const all = useKinds()
  const own = (o.kinds ?? []).length > 0 ? (o.kinds as Kind[]) : plan.kinds
  const measures = (all.data ?? []).filter((k) => own.includes(k.name as Kind)).flatMap((k) => k.measures)
  const distinct = measures.filter((m, i) => measures.findIndex((x) => x.name === m.name) === i)
  const limits = o.limits ?? []
  const kinds = (k: Kind, on: boolean) => {
    const next = on ? [...own, k] : own.filter((x) => x !== k)
    const plain = next.length === plan.kinds.length && next.every((x) => plan.kinds.includes(x))
    if (next.length > 0) change({ ...o, kinds: plain ? undefined : next })
  }
  return (
    <Box sx={{ display: 'grid', gap: '12px', padding: '4px 0 10px' }}>
      <div>
        <FormControlLabel label="leave it out" control={<Checkbox size="small" checked={o.skip ?? false} onChange={(_, on) => change({ ...o, skip: on || undefined })} />} />
        {!o.skip && (Object.entries(pairKinds) as [Kind, string][]).map(([k, text]) => <FormControlLabel key={k} label={text} control={<Checkbox size="small" checked={own.includes(k)} onChange={(_, on) => kinds(k, on)} />} />)}
      </div>
      {!o.skip && !plan.on_demand && (
        <Box sx={{ maxWidth: '240px', display: 'grid' }}>
          <Pace label="Every" none="as the plan" value={o.interval_s ?? 0} change={(s) => change({ ...o, interval_s: s || undefined })} />
        </Box>
      )}
      {!o.skip && (
        <Box sx={{ display: 'grid', gap: '10px' }}>
          {limits.map((l, i) => (
            <LimitRow key={i} limit={l} measures={distinct} change={(x) => change({ ...o, limits: limits.map((y, n) => (n === i ? x : y)) })} remove={() => change({ ...o, limits: limits.filter((_, n) => n !== i) })} />
          ))}
          <div>
            <Button variant="text" onClick={() => change({ ...o, limits: [...limits, { measure: all.data?.find((k) => k.name === own[0])?.limit ?? 'loss_percent' }] })}>
              Add a limit of its own
            </Button>
            {limits.length === 0 && <span className="sub"> Its limits are the usual ones: loss, a change of route, MOS.</span>}
          </div>
        </Box>
      )}
    </Box>
  )
}
