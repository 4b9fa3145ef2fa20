import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useState, type ReactNode } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useChecks, useKinds, useLocations, useMay, useMayDefine, usePairPlans, useServices } from '../api/queries'
import { Export } from '../parts/export'
import { counted } from '../parts/counted'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Awaited, Trouble } from '../parts/trouble'
import { inOrder } from '../services/measures'
import { useTrials } from '../services/queries'
import { stateOf } from '../services/try-now'
import { duration, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { SetupHead } from './head'
import { pairKinds, shapes, type Plan } from './pair-words'
import { useReach } from './queries'

type Run = Schemas['PairRun']

/** The plans of checks between locations, and a way to run each at once. */
export function Pairs() {
  const plans = usePairPlans()
  const checks = useChecks()
  const may = useMayDefine()
  const keep = useKeep()
  if (!plans.data || !checks.data) return <Awaited error={plans.error ?? checks.error} />
  const live = plans.data.filter((p) => !p.retired)
  return (
    <>
      <SetupHead title="Pairs">
        {may && (
          <Button variant={live.length ? 'outlined' : 'contained'} component={Link} to={keep('/set-up/pairs/new')}>
            Plan pairs
          </Button>
        )}
      </SetupHead>
      <Box component="p" className="sub" sx={{ maxWidth: '640px' }}>
        How locations reach each other. A plan says between which, and keeps the checks: they are made, changed and retired with it.
      </Box>
      {plans.data.length === 0 && <div className="empty">Nothing is measured between locations yet. Plan the pairs: choose the locations and see how many pairs and runs a day that makes before anything is saved.</div>}
      {[...live, ...plans.data.filter((p) => p.retired)].map((p) => (
        <OnePlan key={p.id} plan={p} checks={checks.data.filter((c) => c.spec.pair?.plan === p.id && !c.retired)} />
      ))}
    </>
  )
}

function OnePlan({ plan, checks }: { plan: Plan; checks: Schemas['DefinedCheckSpec'][] }) {
  const services = useServices()
  const permits = useMay()
  const may = useMayDefine()
  const keep = useKeep()
  const [runs, setRuns] = useState<Run[]>([])
  const run = useChange({ mutationFn: () => ask(api.POST('/api/v1/pair-plans/{id}/run', { params: { path: { id: plan.id } } })).then((l) => l.items), onSuccess: setRuns })
  const retiring = useRetiring('pair-plans')
  const s = plan.spec
  const pairs = new Set(checks.map((c) => [c.spec.pair?.from, c.spec.pair?.to].sort().join(' '))).size
  const own = (s.overrides ?? []).length
  return (
    <Box component="section" data-plan={plan.id} sx={{ borderTop: '1px solid var(--mui-palette-divider)', padding: '14px 0', maxWidth: '980px', opacity: plan.retired ? 0.6 : 1 }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'baseline', gap: '16px' }}>
        <div>
          <Typography variant="h2">
            {s.name}
            {plan.retired && ', retired'}
          </Typography>
          <div className="sub">
            {s.kinds.map((k) => pairKinds[k]).join(' and ')}, {shapes[s.shape]}
            {s.both_ways ? ', from both ends' : ''}
            {s.on_demand ? '; measured when somebody runs it' : `; ${counted(pairs, 'pair')}, ${counted(checks.length, 'check')}, every ${duration(s.interval_s * 1000)}`}
            {own > 0 && `; ${own} differently`}. Of{' '}
            <Link to={keep(`/services/${s.service}`)}>{services.data?.find((x) => x.id === s.service)?.spec.name ?? s.service}</Link>.
          </div>
        </div>
        <Box sx={{ display: 'flex', gap: '10px', whiteSpace: 'nowrap' }}>
          {!plan.retired && permits('operate') && (
            <Button onClick={() => run.mutate()} disabled={run.isPending}>
              Run it now
            </Button>
          )}
          {!plan.retired && (
            <Button component={Link} to={keep(`/set-up/pairs/${plan.id}`)}>
              {may ? 'Edit' : 'See it'}
            </Button>
          )}
          {may && (
            <Button variant="text" color={plan.retired ? 'primary' : 'error'} onClick={() => (plan.retired ? retiring.restore(plan.id) : retiring.ask(plan.id))}>
              {plan.retired ? 'Restore' : 'Retire'}
            </Button>
          )}
        </Box>
      </Box>
      <Trouble error={run.error ?? retiring.error} />
      {runs.length > 0 ? <RunView runs={runs} name={s.name} close={() => setRuns([])} /> : !plan.retired && !s.on_demand && <Latest plan={plan} />}
      <RetireQuestion
        of={retiring}
        title={`Retire the plan ${s.name}?`}
        text={`Its ${counted(checks.length, 'check')} ${checks.length === 1 ? 'is' : 'are'} measured no more from now on. What they measured stays, and the plan can be restored with them.`}
        act="Retire the plan"
      />
    </Box>
  )
}

/** What says most of a kind, and so stands in the table. */
const chief: Record<string, string[]> = { ping: ['rtt_mean_ms', 'loss_percent'], path: ['hops', 'rtt_mean_ms'], udp: ['mos', 'rtt_mean_ms'] }

/** One way of a pair, as measured last or in a run. */
type Way = { key: string; from: string; to: string; kind: string; outcome?: string; word: string; detail?: string; measures?: Record<string, number>; at?: string; check?: string }

/** A run as it comes in. */
function RunView({ runs, name, close }: { runs: Run[]; name: string; close: () => void }) {
  const trials = useTrials(runs.map((r) => r.trial))
  const of = new Map(trials.data?.map((t) => [t.id, t]))
  const ways = runs.map((r): Way => {
    const t = of.get(r.trial)
    const done = t?.state === 'done'
    return { key: r.trial, from: r.from, to: r.to, kind: r.kind, outcome: done ? t.outcome : undefined, word: done ? (t.outcome ?? '') : t?.state === 'lost' ? 'no agent took it' : 'measuring …', detail: t?.detail, measures: t?.measures }
  })
  const done = runs.filter((r) => ['done', 'lost'].includes(of.get(r.trial)?.state ?? '')).length
  return (
    <>
      <Trouble error={trials.error} />
      <Reach ways={ways} name={`${name} run`}>
        {done < runs.length ? `${done} of ${runs.length} measured …` : `Run just now: ${runs.length} measured; they enter no account.`}{' '}
        <button type="button" className="link" onClick={close}>
          close
        </button>
      </Reach>
    </>
  )
}

/** What the kept checks saw last. */
function Latest({ plan }: { plan: Plan }) {
  const reach = useReach(plan.id)
  const { zone } = useZone()
  if (!reach.data) return <Trouble error={reach.error} />
  const ways = reach.data.map((r): Way => ({ key: r.check, from: r.from, to: r.to, kind: r.kind, outcome: r.last?.outcome, word: r.last?.outcome ?? 'awaiting first measurement', detail: r.last?.detail, measures: r.last?.measures, at: r.last?.at, check: r.check }))
  const last = ways.map((w) => w.at ?? '').sort().at(-1)
  if (ways.length === 0) return null
  return (
    <Reach ways={ways} name={plan.spec.name}>
      {last ? `As measured last, ${shortTime(last, zone)}.` : 'Nothing is measured yet.'}
    </Reach>
  )
}

/** Who reaches whom: a row for each location that measures, a column for each that is measured. */
function Reach({ ways, name, children }: { ways: Way[]; name: string; children: ReactNode }) {
  const places = useLocations()
  const kinds = useKinds()
  const keep = useKeep()
  const place = (id: string) => places.data?.find((l) => l.id === id)?.spec.name ?? id
  const byName = (ids: string[]) => [...new Set(ids)].sort((a, b) => place(a).localeCompare(place(b)))
  const from = byName(ways.map((w) => w.from))
  const to = byName(ways.map((w) => w.to))
  const values = (w: Way) => {
    const all = inOrder(kinds.data?.find((k) => k.name === w.kind), w.measures)
    return (chief[w.kind] ?? []).flatMap((n) => all.filter((m) => m.name === n)).map((m) => `${m.value} ${m.unit || (m.value === '1' ? m.text.replace(/s$/, '') : m.text)}`)
  }
  return (
    <Box sx={{ marginTop: '12px', overflowX: 'auto' }}>
      <div className="sub" role="status">
        {children} <Export name={name} columns={['from', 'to', 'kind', 'outcome', 'at', 'detail', 'measures']} rows={ways.map((w) => [place(w.from), place(w.to), w.kind, w.word, w.at, w.detail, JSON.stringify(w.measures ?? {})])} />
      </div>
      <Table  sx={{ width: 'auto', marginTop: '8px' }}>
        <TableHead>
          <TableRow>
            <TableCell>From, down; to, across</TableCell>
            {to.map((t) => (
              <TableCell key={t} scope="col">
                {place(t)}
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {from.map((f) => (
            <TableRow key={f}>
              <TableCell component="th" scope="row">{place(f)}</TableCell>
              {to.map((t) => (
                <TableCell key={t} sx={{ minWidth: '190px' }}>
                  {f === t && <span className="sub">–</span>}
                  {ways
                    .filter((w) => w.from === f && w.to === t)
                    .map((w) => (
                      <div key={w.key} title={w.detail}>
                        {w.check ? <Link to={keep(`/checks/${w.check}`)}>{pairKinds[w.kind as keyof typeof pairKinds]}</Link> : pairKinds[w.kind as keyof typeof pairKinds]} <span className={w.outcome ? `word-${stateOf(w.outcome)}` : 'sub'}>{w.word}</span>{' '}
                        <span className="sub">{values(w).join(', ')}</span>
                      </div>
                    ))}
                </TableCell>
              ))}
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Box>
  )
}
