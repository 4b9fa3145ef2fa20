import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMemo, useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useChecks, useChecksNow, useLocations, useMayDefine, useNotUp, useServices } from '../api/queries'
import { counted } from '../parts/counted'
import { Export } from '../parts/export'
import { GroupBy, GroupHead, useParam } from '../parts/group-by'
import { first, rowsOf, sections } from '../parts/groups'
import { usePartyName } from '../parts/party'
import { SelectionPick, useSelection } from '../parts/selection'
import { SortCell, useSort } from '../parts/sort'
import { Awaited } from '../parts/trouble'
import { duration } from '../time/format'
import { useKeep } from '../time/span'
import { More, useFind, useShown } from '../parts/more'
import { inward, kinds, value } from './kinds'
import { scheduleOf, useEffects } from './schedule'

type Check = Schemas['DefinedCheckSpec']
type Spec = Schemas['CheckSpec']
type Change = { interval_s: string; timeout_ms: string; confirm: string; recover: string; retry_s: string; role: '' | 'decides' | 'informs'; add: string; take: string; reason: string }

const unchanged: Change = { interval_s: '', timeout_ms: '', confirm: '', recover: '', retry_s: '', role: '', add: '', take: '', reason: '' }

const worstFirst = ['down', 'degraded', 'unmeasured', 'up']

type Names = { service: (id: string) => string; owner: (service: string) => string; tags: (service: string) => string[]; place: (id: string) => string; state: (id: string) => string }

/** By what they can be grouped: what gives the names of the groups that a check is in. */
const ways: Record<string, (of: Names) => (c: Check) => string[]> = {
  service: (of) => (c) => [of.service(c.spec.service)],
  owner: (of) => (c) => [of.owner(c.spec.service)],
  tag: (of) => (c) => of.tags(c.spec.service),
  kind: () => (c) => [kinds[c.spec.kind].word],
  state: (of) => (c) => [of.state(c.id)],
  location: (of) => (c) => c.spec.locations.map(of.place),
}

/** All checks, to be found, and to be changed many at once. */
export function CheckList() {
  const checks = useChecks()
  const services = useServices()
  const places = useLocations()
  const may = useMayDefine()
  const keep = useKeep()
  const [find, words, setWords] = useFind()
  const [state, setState] = useParam('state')
  const [kind, setKind] = useParam('kind')
  const [role, setRole] = useParam('role')
  const [by, setBy] = useParam('by')
  const selection = useSelection('checks')
  const team = usePartyName('team')
  const [most, more] = useShown()
  const notUp = useNotUp()
  const stateOf = (id: string) => notUp.data?.get(id) ?? 'up'
  const [chosen, setChosen] = useState<string[]>([])
  const [change, setChange] = useState(unchanged)
  const [faults, setFaults] = useState<Record<string, string>>({})
  const [before, setBefore] = useState<Check[]>([])

  const described = useMemo(() => new Map((services.data ?? []).map((s) => [s.id, s.spec])), [services.data])
  const service = (id: string) => described.get(id)?.name ?? id
  const place = (id: string) => (id === 'server' ? 'the server' : (places.data?.find((l) => l.id === id)?.spec.name ?? id))
  const sort = useSort<Check>(
    {
      service: (c) => `${service(c.spec.service)} ${c.spec.name}`,
      check: (c) => c.spec.name,
      state: (c) => worstFirst.indexOf(stateOf(c.id)),
      kind: (c) => kinds[c.spec.kind].word,
      target: (c) => c.spec.target,
      every: (c) => c.spec.interval_s,
      role: (c) => c.spec.role ?? '',
    },
    'service',
  )
  const matching = (checks.data ?? [])
    .filter((c) => !c.retired && selection.has(c.id))
    .filter((c) => {
      const text = [c.spec.name, service(c.spec.service), kinds[c.spec.kind].word, c.spec.target, ...c.spec.locations.map(place)].join(' ').toLowerCase()
      if (kind && c.spec.kind !== kind) return false
      if (role && c.spec.role !== role) return false
      if (state === 'not up' ? stateOf(c.id) === 'up' : state && stateOf(c.id) !== state) return false
      return find
        .toLowerCase()
        .split(/\s+/)
        .every((w) => text.includes(w))
    })
  const found = sort.sorted(matching)
  const groups = sections(found, ways[by]?.({ service, owner: (id) => team(described.get(id)?.owner), tags: (id) => described.get(id)?.tags ?? [], place, state: stateOf }), worstFirst)
  const shown = first(groups, most)
  const now = useChecksNow([...new Set(shown.flatMap((g) => g.items.map((c) => c.id)))])
  const picked = found.filter((c) => chosen.includes(c.id))
  const cost = useEffects(may && picked.length > 0 ? { schedules: picked.map((c) => scheduleOf(changed(c.spec, change))) } : undefined)

  const put = async (c: Check, revision: number, spec: Spec, reason: string) => {
    try {
      await ask(api.PUT('/api/v1/checks/{id}', { params: { path: { id: c.id } }, body: { revision, reason, spec } }))
      return true
    } catch (e) {
      const why = e instanceof Problem ? Object.entries(e.fields).map(([path, text]) => `${path.replace('spec.', '')}: ${text}`).join('; ') || e.message : String(e)
      setFaults((f) => ({ ...f, [c.id]: why }))
      return false
    }
  }
  const save = useChange({
    mutationFn: async () => {
      setFaults({})
      const done: Check[] = []
      for (const c of picked) if (await put(c, c.revision, changed(c.spec, change), change.reason || 'changed with others')) done.push(c)
      setBefore(done)
      if (done.length === picked.length) setChange({ ...unchanged })
      return done.length
    },
    again: 'all',
  })
  const undo = useChange({
    mutationFn: async () => {
      for (const c of before) await put(c, c.revision + 1, c.spec, 'undone')
      setBefore([])
      save.reset()
    },
    again: 'all',
  })
  if (!checks.data || !services.data) return <Awaited error={checks.error ?? services.error} />
  const touched = Object.entries(change).some(([k, v]) => k !== 'reason' && v !== '')
  const field = (name: keyof Change, label: string, unit = '') => (
    <TextField label={label} value={change[name]} placeholder="as it is" onChange={(e) => setChange({ ...change, [name]: e.target.value })} slotProps={{ input: { endAdornment: unit }, inputLabel: { shrink: true } }} />
  )
  const choice = (name: keyof Change, label: string, of: Record<string, string>) => (
    <TextField select label={label} value={change[name]} onChange={(e) => setChange({ ...change, [name]: e.target.value })} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">as it is</MenuItem>
      {Object.entries(of).map(([v, text]) => (
        <MenuItem key={v} value={v}>
          {text}
        </MenuItem>
      ))}
    </TextField>
  )
  const locations = Object.fromEntries((places.data ?? []).filter((l) => !l.retired).map((l) => [l.id, l.spec.name]))
  return (
    <>
      <div className="head">
        <Typography variant="h1">Checks</Typography>
        <div className="actions">
          <Export name="checks" columns={['service', 'check', 'kind', 'target', 'every_s', 'locations', 'role', 'state']} rows={found.map((c) => [service(c.spec.service), c.spec.name, c.spec.kind, c.spec.target, c.spec.interval_s, c.spec.locations.join(' '), c.spec.role, stateOf(c.id)])} />
        </div>
      </div>
      <div className="in-a-row">
        <TextField label="Find by name, service, kind, target or location" value={words} onChange={(e) => setWords(e.target.value)} sx={{ width: 380, maxWidth: '100%' }} />
        <SelectionPick of={selection} />
        <GroupBy value={by} change={setBy} of={Object.keys(ways)} />
        <Pick label="State" value={state} change={setState} of={{ 'not up': 'not up', down: 'down', degraded: 'degraded', unmeasured: 'not measured', up: 'up' }} />
        <Pick label="Kind" value={kind} change={setKind} of={Object.fromEntries(Object.entries(kinds).map(([k, f]) => [k, f.word]))} />
        <Pick label="Role" value={role} change={setRole} of={{ decides: 'decides', informs: 'informs only' }} />
        <span className="sub" role="status">
          {counted(found.length, 'check')}
        </span>
      </div>
      <Table>
        <TableHead>
          <TableRow>
            {may && (
              <TableCell>
                <input type="checkbox" aria-label="Choose all that match" checked={found.length > 0 && picked.length === found.length} onChange={(e) => setChosen(e.target.checked ? found.map((c) => c.id) : [])} />
              </TableCell>
            )}
            <SortCell sort={sort} of="service" />
            <SortCell sort={sort} of="check" />
            <SortCell sort={sort} of="state" />
            <TableCell>From, and its latest</TableCell>
            <SortCell sort={sort} of="kind" />
            <SortCell sort={sort} of="target" />
            <SortCell sort={sort} of="every" />
            <SortCell sort={sort} of="role" />
          </TableRow>
        </TableHead>
        {shown.map((g) => (
        <TableBody key={g.name}>
          {by && (
            <TableRow>
              <TableCell colSpan={may ? 9 : 8}>
                <GroupHead name={g.name === 'unmeasured' ? 'not measured' : g.name} none={`no ${by}`} count={g.all.length} />
              </TableCell>
            </TableRow>
          )}
          {g.items.map((c) => (
            <TableRow key={c.id} data-check={c.id}>
              {may && (
                <TableCell>
                  <input type="checkbox" aria-label={`Choose ${c.spec.name}`} checked={chosen.includes(c.id)} onChange={(e) => setChosen(e.target.checked ? [...chosen, c.id] : chosen.filter((x) => x !== c.id))} />
                </TableCell>
              )}
              <TableCell>{service(c.spec.service)}</TableCell>
              <TableCell>
                <Link to={keep(`/checks/${c.id}`)}>{c.spec.name}</Link>
                {faults[c.id] && <div className="trouble">{faults[c.id]}</div>}
              </TableCell>
              <TableCell className={`word-${now.data?.get(c.id)?.state ?? ''}`} sx={{ whiteSpace: 'nowrap' }}>{now.data?.get(c.id)?.state === 'unmeasured' ? 'not measured' : now.data?.get(c.id)?.state}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{latest(now.data?.get(c.id), c.spec, place)}</TableCell>
              <TableCell>{kinds[c.spec.kind].word}</TableCell>
              <TableCell sx={{ overflowWrap: 'anywhere' }}>{c.spec.target || '–'}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{duration(c.spec.interval_s * 1000)}</TableCell>
              <TableCell>{c.spec.role}</TableCell>
            </TableRow>
          ))}
        </TableBody>
        ))}
      </Table>
      <More shown={rowsOf(shown)} of={rowsOf(groups)} onMore={more} />
      {found.length === 0 && <p className="sub">{words || state || kind || role ? 'No check is like that.' : 'No check is defined yet. Describe a service first.'}</p>}
      {may && picked.length > 0 && (
        <Box className="form" sx={{ marginTop: '24px', maxWidth: '900px' }}>
          <fieldset>
            <legend>Change {picked.length === 1 ? 'this check' : `these ${picked.length} checks`}</legend>
            <div className="side">
              {field('interval_s', 'Every', 's')}
              {field('timeout_ms', 'Timeout', 'ms')}
              {field('confirm', 'Failures to believe it')}
              {field('retry_s', 'Look again after', 's')}
              {field('recover', 'Good ones to recover')}
            </div>
            <div className="side">
              {choice('role', 'Role', { decides: 'decides', informs: 'informs only' })}
              {choice('add', 'Measure also from', locations)}
              {choice('take', 'No more from', locations)}
              {field('reason', 'Why')}
            </div>
            <div className="consequence sub">
              {cost.data && `${cost.data.words} by these. `}Each gets a revision of its own; what was judged stays as it was.
            </div>
          </fieldset>
          <div>
            <Button variant="contained" disabled={!touched || save.isPending} onClick={() => save.mutate()}>
              Change {picked.length}
            </Button>
          </div>
        </Box>
      )}
      {save.data !== undefined && (
        <p className="sub" role="status">
          {save.data} changed{Object.keys(faults).length > 0 && `, ${Object.keys(faults).length} not: the reason stands at each`}.{' '}
          {before.length > 0 && (
            <button type="button" className="link" disabled={undo.isPending} onClick={() => undo.mutate()}>
              undo
            </button>
          )}
        </p>
      )}
    </>
  )
}

/** Filters a list by one of some words. */
function Pick({ label, value: v, change, of }: { label: string; value: string; change: (v: string) => void; of: Record<string, string> }) {
  return (
    <TextField select label={label} value={v} onChange={(e) => change(e.target.value)} sx={{ width: 150 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">any</MenuItem>
      {Object.entries(of).map(([k, text]) => (
        <MenuItem key={k} value={k}>
          {text}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** Where a check measures from, and what it measured there last: the value, or why there is none. */
function latest(c: Schemas['CheckNow'] | undefined, spec: Spec, place: (id: string) => string) {
  return spec.locations.map((id) => {
    const l = c?.lanes.find((x) => x.location === id)
    const said = l?.at ? value(spec.kind, l.value) || l.outcome : c && 'not yet'
    return (
      <div key={id} title={l?.detail}>
        {place(id)} <span className={l && l.state !== 'up' ? `word-${l.state}` : 'sub'}>{said}</span>
      </div>
    )
  })
}

/** A spec with what was filled in changed, which it then follows no more; what keeps the rules of the interval follows it. */
function changed(spec: Spec, c: Change): Spec {
  const number = (text: string, was: number) => (text.trim() === '' ? was : Number(text))
  const interval_s = number(c.interval_s, spec.interval_s)
  const mine = Object.entries({ interval_s: c.interval_s, stale_after_s: c.interval_s, timeout_ms: c.timeout_ms, confirm: c.confirm, recover: c.recover, retry_s: c.retry_s, locations: c.add || c.take })
    .filter(([, text]) => text.trim() !== '')
    .map(([name]) => name)
  const out: Spec = {
    ...spec,
    follows: (spec.follows ?? []).filter((name) => !mine.includes(name)), // what is changed here is the check's own from now on
    interval_s,
    timeout_ms: number(c.timeout_ms, spec.timeout_ms),
    confirm: number(c.confirm, spec.confirm),
    recover: number(c.recover, spec.recover),
    retry_s: c.retry_s.trim() === '' ? spec.retry_s : Number(c.retry_s) || undefined,
    stale_after_s: c.interval_s.trim() === '' ? spec.stale_after_s : Math.max(spec.stale_after_s, interval_s * 3 + 10),
    role: c.role || spec.role,
  }
  if (!inward(spec.kind)) {
    const from = spec.locations.filter((l) => l !== c.take)
    out.locations = c.add && !from.includes(c.add) ? [...from, c.add] : from
  }
  return out
}
