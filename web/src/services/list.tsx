import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMemo } from 'react'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useMayDefine, useServices, useStates, useStrips } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip, type Axis } from '../axis/strip'
import { Export } from '../parts/export'
import { GroupBy, GroupHead, useParam } from '../parts/group-by'
import { first, rowsOf, sections } from '../parts/groups'
import { More, useFind, useShown } from '../parts/more'
import { usePartyName } from '../parts/party'
import { SelectionPick, useSelection } from '../parts/selection'
import { SortWords, useSort } from '../parts/sort'
import { Awaited } from '../parts/trouble'
import { duration } from '../time/format'
import { useKeep, useSpan } from '../time/span'

type Service = Schemas['DefinedServiceSpec']

/** By what they can be grouped: what gives the names of the groups that a service is in. */
const ways: Record<string, (team: (id: string | undefined) => string, state: (s: Service) => string) => (s: Service) => string[]> = {
  owner: (team) => (s) => [team(s.spec.owner)],
  tag: () => (s) => s.spec.tags ?? [],
  kind: () => (s) => [s.spec.kind],
  state: (_, state) => (s) => [state(s)],
}

/** What is not up among some services, in words. */
function troubles(list: Service[], state: (s: Service) => string): string {
  return Object.keys(severity)
    .filter((w) => w !== 'up')
    .map((w) => [list.filter((s) => state(s) === w).length, w === 'unmeasured' ? 'not measured' : w] as const)
    .filter(([n]) => n > 0)
    .map(([n, w]) => `${n} ${w}`)
    .join(', ')
}

const severity: Record<string, number> = { down: 0, degraded: 1, unmeasured: 2, up: 3 }

/** All services, their state now and their states over the span. */
export function ServiceList() {
  const [span] = useSpan()
  const services = useServices()
  const states = useStates()
  const keep = useKeep()
  const [find, text, setText] = useFind()
  const [most, more] = useShown()
  const [isRetired, setRetired] = useParam('retired')
  const retired = isRetired === 'yes'
  const [by, setBy] = useParam('by')
  const selection = useSelection('services')
  const may = useMayDefine()
  const stateOf = useMemo(() => {
    const all = new Map(states.data?.map((s) => [s.service, s]))
    return (id: string) => all.get(id)
  }, [states.data])
  const team = usePartyName('team')
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const found = (services.data ?? [])
    .filter((s) => s.retired === retired && selection.has(s.id))
    .filter((s) => words.every((w) => [s.spec.name, s.spec.kind, team(s.spec.owner), ...(s.spec.tags ?? [])].join(' ').toLowerCase().includes(w)))
    .sort((a, b) => a.spec.name.localeCompare(b.spec.name))
  const wordOf = (s: Service) => stateOf(s.id)?.state ?? 'unmeasured'
  const sort = useSort<Service>({ name: (x) => x.spec.name, state: (x) => severity[wordOf(x)] ?? 2, kind: (x) => x.spec.kind, owner: (x) => team(x.spec.owner) }, 'name')
  const matching = sort.sorted(found)
  const groups = sections(matching, ways[by]?.(team, wordOf), Object.keys(severity))
  const shown = first(groups, most)
  const strips = useStrips([...new Set(shown.flatMap((g) => g.items.map((s) => s.id)))], span)
  if (!services.data || !strips.data?.span) return <Awaited error={services.error ?? strips.error} />
  const axis = axisOf(strips.data.span)
  return (
    <>
      <Band span={strips.data.span} />
      <div className="head">
        <Typography variant="h1">Services</Typography>
        <div className="actions">
          <TextField
            placeholder="name, owner, kind or tag"
            value={text}
            sx={{ width: 220 }}
            slotProps={{ htmlInput: { 'aria-label': 'Filter' } }}
            onChange={(e) => setText(e.target.value)}
          />
          <SelectionPick of={selection} />
          <GroupBy value={by} change={setBy} of={Object.keys(ways)} />
          <Button component={Link} to={keep('/checks')} variant="text">
            All checks
          </Button>
          <Button component={Link} to={keep('/services/dependencies')} variant="text">
            Dependencies
          </Button>
          {may && (
            <>
              <Button component={Link} to={keep('/services/many')} variant="outlined">
                Many at once
              </Button>
              <Button component={Link} to={keep('/services/new')} variant="contained">
                Describe a service
              </Button>
            </>
          )}
        </div>
      </div>
      <div className="axis-row column-heads">
        <SortWords sort={sort} of={['name', 'state', 'kind', 'owner']} />
        <span>State over the span</span>
        <span className="now">Now</span>
      </div>
      {shown.map((g) => (
        <section key={g.name} aria-label={by ? g.name || 'none' : undefined}>
          {by && <GroupHead name={g.name === 'unmeasured' ? 'not measured' : g.name} none={`no ${by}`} count={g.all.length} says={by === 'state' ? undefined : troubles(g.all, wordOf)} />}
          {g.items.map((s) => (
            <Row key={s.id} service={s} state={stateOf(s.id)} owner={team(s.spec.owner)} strip={strips.data.strips[s.id]} axis={axis} to={keep(`/services/${s.id}`)} />
          ))}
        </section>
      ))}
      <More shown={rowsOf(shown)} of={rowsOf(groups)} onMore={more} />
      {rowsOf(shown) === 0 && (
        <div className="empty">
          {services.data.length === 0 ? (
            <p>
              No service is described yet. {may ? <Link to={keep('/services/new')}>Describe the first one</Link> : 'A manager can describe one'}: its address is enough to begin with.
            </p>
          ) : (
            <p>No service matches. Take a word away{selection.id && ', or the selection'}.</p>
          )}
        </div>
      )}
      <Legend only={['up', 'degraded', 'down', 'unmeasured']} />
      <Box sx={{ display: 'flex', gap: '24px', marginTop: '14px' }}>
        <Export name="services" columns={['id', 'name', 'kind', 'owner', 'state', 'since']} rows={matching.map((s) => [s.id, s.spec.name, s.spec.kind, team(s.spec.owner), stateOf(s.id)?.state, stateOf(s.id)?.since_at])} />
        {(retired || services.data.some((s) => s.retired)) && (
          <button type="button" className="link sub" onClick={() => setRetired(retired ? '' : 'yes')}>
            {retired ? 'show those in force' : 'show retired ones'}
          </button>
        )}
      </Box>
    </>
  )
}

type RowProps = { service: Service; state: Schemas['StateView'] | undefined; owner: string; strip: { strip: string; total_ms: Partial<Record<string, number>> } | undefined; axis: Axis; to: string }

function Row({ service: s, state, owner, strip, axis, to }: RowProps) {
  const word = state?.state ?? 'unmeasured'
  return (
    <Link to={to} className="entry axis-row" data-service={s.id}>
      <span>
        <div className="name">{s.spec.name}</div>
        <div className="sub">{[s.spec.kind, owner].filter(Boolean).join(' · ')}</div>
      </span>
      <Strip zooms columns={strip?.strip ?? ''} total={strip?.total_ms ?? {}} axis={axis} label={s.spec.name} />
      <span className="now">
        <div className={`word-${word}`}>{word !== 'unmeasured' ? word : state?.awaiting ? 'awaiting first measurement' : 'not measured'}</div>
        <div className="sub">
          {state && `for ${duration(axis.now - Date.parse(state.since_at))}`}
          {state?.never_good ? ', never good' : ''}
          {state && state.waiting > 0 ? ', not yet confirmed' : ''}
        </div>
      </span>
    </Link>
  )
}
