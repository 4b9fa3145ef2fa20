import Alert from '@mui/material/Alert'
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
import { TZDate } from '@date-fns/tz'
import { parse } from 'date-fns'
import { Suspense, lazy, useState } from 'react'
import { useMayDefine, useServices } from '../api/queries'
import { useParam } from '../parts/group-by'
import { useFind } from '../parts/more'
import { usePartyName } from '../parts/party'
import { Awaited, Trouble } from '../parts/trouble'
import { fullTime, wallMinute } from '../time/format'
import { useZone } from '../time/span'
import { Picked } from './picked'
import { useDependencies, type Node } from './queries'
import './dependencies.css'

const Picture = lazy(() => import('./picture').then((m) => ({ default: m.Picture })))
const Minute = lazy(() => import('../parts/day').then((m) => ({ default: m.Minute })))
const FileForm = lazy(() => import('./file-form'))

/** The most that one picture can be read with; more of them stand in the table. */
const mostDrawn = 320

const ways = { both: 'with what it needs and what needs it', needs: 'with what it needs', needed: 'with what needs it' } as const

/** What needs what, drawn and as a table, now or at any moment. */
export function DependenciesPage() {
  const { home } = useZone()
  const [picked, setPicked] = useParam('pick')
  const [of, setOf] = useParam('of')
  const [way, setWay] = useParam('way')
  const [at, setAt] = useParam('at')
  const [as, setAs] = useParam('as')
  const [state, setState] = useParam('state')
  const [owner, setOwner] = useParam('owner')
  const [find, text, setText] = useFind()
  const [files, setFiles] = useState(false)
  const may = useMayDefine()
  const team = usePartyName('team')
  const services = useServices()
  const typed = at ? parse(at, 'yyyy-MM-dd HH:mm', TZDate.tz(home)) : undefined
  const moment = typed && !Number.isNaN(typed.getTime()) ? new Date(typed.getTime()).toISOString() : undefined
  const graph = useDependencies({ at: moment, of: of || undefined, way: of && way in ways ? (way as keyof typeof ways) : undefined })
  const data = graph.data
  if (!data) return <Awaited error={graph.error} />
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const owners = [...new Set(data.nodes.map((n) => n.owner ?? ''))].filter(Boolean).sort((a, b) => team(a).localeCompare(team(b)))
  const shown = data.nodes.filter(
    (n) => (!state || n.state === state) && (!owner || n.owner === owner) && words.every((w) => [n.name, n.kind, team(n.owner), ...n.tags].join(' ').toLowerCase().includes(w)),
  )
  const node = data.nodes.find((n) => n.service === picked)
  const neededBy = new Map<string, Node[]>()
  for (const n of data.nodes) for (const g of n.groups) for (const m of g.services) neededBy.set(m, [...(neededBy.get(m) ?? []).filter((x) => x !== n), n])
  const name = (id: string) => data.nodes.find((n) => n.service === id)?.name ?? services.data?.find((s) => s.id === id)?.spec.name ?? id
  return (
    <div className="with-aside dependencies">
      <div>
        <div className="head">
          <Typography variant="h1" className="statement">
            {data.words}
          </Typography>
          <div className="actions">
            <Button variant="text" onClick={() => setAs(as === 'table' ? '' : 'table')}>
              {as === 'table' ? 'As a picture' : 'As a table'}
            </Button>
            <Button variant="text" onClick={() => setFiles(!files)} aria-expanded={files}>
              Files
            </Button>
          </div>
        </div>
        <p className="lead">
          What needs what: at the left what needs others, at the right what is needed{data.live ? '.' : `, as it was on ${fullTime(data.at, home)}.`}
        </p>
        <Box className="in-a-row" sx={{ mt: 0 }}>
          <TextField placeholder="name, owner, kind or tag" value={text} sx={{ width: 190 }} slotProps={{ htmlInput: { 'aria-label': 'Filter' } }} onChange={(e) => setText(e.target.value)} />
          <TextField select label="State" value={state} onChange={(e) => setState(e.target.value)} sx={{ width: 120 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            <MenuItem value="">any</MenuItem>
            {['down', 'degraded', 'unmeasured', 'up'].map((s) => (
              <MenuItem key={s} value={s}>
                {s === 'unmeasured' ? 'not measured' : s}
              </MenuItem>
            ))}
          </TextField>
          <TextField select label="Owner" value={owners.includes(owner) ? owner : ''} onChange={(e) => setOwner(e.target.value)} sx={{ width: 150 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
            <MenuItem value="">any</MenuItem>
            {owners.map((o) => (
              <MenuItem key={o} value={o}>
                {team(o)}
              </MenuItem>
            ))}
          </TextField>
          <Suspense fallback={null}>
            <Minute label="At" value={at} change={setAt} zone={home} width={200} help={at ? undefined : 'empty: now'} />
          </Suspense>
        </Box>
        <Trouble error={graph.error} />
        {of && (
          <Alert severity="info" sx={{ mb: 1.5 }} data-around={of}>
            {name(of)}{' '}
            <select className="link" aria-label="What of it" value={way in ways ? way : 'both'} onChange={(e) => setWay(e.target.value === 'both' ? '' : e.target.value)}>
              {Object.entries(ways).map(([k, w]) => (
                <option key={k} value={k}>
                  {w}
                </option>
              ))}
            </select>{' '}
            alone.{' '}
            <button type="button" className="link" onClick={() => setOf('')}>
              All services
            </button>
          </Alert>
        )}
        {files && (
          <Suspense fallback={null}>
            <FileForm may={may} done={() => setFiles(false)} />
          </Suspense>
        )}
        {shown.length === 0 ? (
          <div className="empty">{data.nodes.length === 0 ? 'There was no service then.' : 'No service matches. Take a word away.'}</div>
        ) : as === 'table' || shown.length > mostDrawn ? (
          <>
            {as !== 'table' && <Alert severity="info">{shown.length} services are more than a picture can be read with. Filter them, or choose one and look at what hangs together with it.</Alert>}
            <AsTable nodes={shown} neededBy={neededBy} name={name} picked={picked} onPick={setPicked} />
          </>
        ) : (
          <Suspense fallback={null}>
            <Picture nodes={shown} picked={picked} onPick={(s) => setPicked(s === picked ? '' : s)} />
          </Suspense>
        )}
      </div>
      <aside className="pane">
        {node ? (
          <Picked key={node.service} node={node} neededBy={neededBy.get(node.service) ?? []} name={name} live={data.live} may={may} onPick={setPicked} onAround={() => setOf(node.service)} onMoment={() => setAt(at ? '' : wallMinute(Date.now(), home))} />
        ) : (
          <p className="sub">Choose a service to see and change what it needs, what could be promised of it, and what hangs together with it. A number on a line says how many of a group are needed; dashed, none of them may fail any more. Four or more that need and are needed alike are drawn as one.</p>
        )}
      </aside>
    </div>
  )
}

/** The same as rows. */
function AsTable({ nodes, neededBy, name, picked, onPick }: { nodes: Node[]; neededBy: Map<string, Node[]>; name: (id: string) => string; picked: string; onPick: (id: string) => void }) {
  return (
    <Table tabIndex={0} aria-label="What needs what">
      <TableHead>
        <TableRow>
          <TableCell>Service</TableCell>
          <TableCell>State</TableCell>
          <TableCell>Needs</TableCell>
          <TableCell>Needed by</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {nodes.map((n) => (
          <TableRow key={n.service} data-needs={n.service} selected={n.service === picked}>
            <TableCell>
              <button type="button" className="link" aria-pressed={n.service === picked} onClick={() => onPick(n.service === picked ? '' : n.service)}>
                {n.name}
              </button>
              <div className="sub">{n.kind}</div>
            </TableCell>
            <TableCell className={`word-${n.state}`}>{n.state === 'unmeasured' ? 'not measured' : n.state}</TableCell>
            <TableCell>
              {n.groups.map((g, i) => (
                <div key={i}>
                  {g.need < g.services.length && `${g.need} of `}
                  {g.services.map(name).join(', ')}
                  {g.need < g.services.length && <span className="sub"> {g.up} up</span>}
                </div>
              ))}
            </TableCell>
            <TableCell>{(neededBy.get(n.service) ?? []).map((x) => x.name).join(', ')}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  )
}
