import MenuItem from '@mui/material/MenuItem'
import Stack from '@mui/material/Stack'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { TZDate } from '@date-fns/tz'
import { parse } from 'date-fns'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useLocations, useServices } from '../api/queries'
import { Minute, noDate } from '../parts/day'
import { useParam } from '../parts/group-by'
import { Pick } from '../parts/pick'
import { Awaited, Trouble } from '../parts/trouble'
import { duration, fullTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { NoticesNav } from './head'
import { useRehearsal, type Asked } from './queries'
import { kindWords, listed } from './words'

const because = { service: 'the service names it', owner: 'its owner follows it', everywhere: 'it is for everything', instead: 'others leave to it what is due outside their hours' }

/** What a failure would tell whom and when, if nobody did anything. */
export function RehearsalPage() {
  const { home } = useZone()
  const services = useServices()
  const places = useLocations()
  const [what, setWhat] = useParam('what')
  const [state, setState] = useParam('state')
  const [at, setAt] = useParam('when')
  const first = services.data?.find((s) => !s.retired)?.id
  const subject = what || (first ? `service ${first}` : '')
  const [about, ...id] = subject.split(' ')
  const when = at && at !== noDate ? parse(at, 'yyyy-MM-dd HH:mm', TZDate.tz(home)) : undefined
  const asked: Asked = { about: about === 'location' ? 'location' : 'service', id: id.join(' '), state: state === 'degraded' ? 'degraded' : 'down', at: when && !Number.isNaN(when.getTime()) ? new Date(when.getTime()).toISOString() : undefined }
  const rehearsal = useRehearsal(asked)
  if (!services.data || !places.data) return <Awaited error={services.error ?? places.error} />
  const choices = [
    ...services.data.filter((s) => !s.retired).map((s) => ({ id: `service ${s.id}`, name: s.spec.name })),
    ...places.data.filter((l) => !l.retired).map((l) => ({ id: `location ${l.id}`, name: `${l.spec.name}, a location` })),
  ]
  const r = rehearsal.data
  return (
    <>
      <NoticesNav />
      <div className="head">
        <Typography variant="h1">Rehearsal</Typography>
      </div>
      <p className="lead">Choose what fails and when, such as a Sunday at 03:10, and see who would be told what, if nobody did anything. Nothing is sent.</p>
      <Stack direction="row" sx={{ flexWrap: 'wrap', gap: 1.5, alignItems: 'start', mb: 2 }}>
        <Pick label="What fails" value={subject} change={setWhat} of={choices} width={280} required />
        <TextField select label="Is" value={asked.state} onChange={(e) => setState(e.target.value)} sx={{ width: 130 }}>
          <MenuItem value="down">down</MenuItem>
          <MenuItem value="degraded">degraded</MenuItem>
        </TextField>
        <Minute label="From" value={at} change={setAt} zone={home} width={220} help={`${home}; empty: now`} />
      </Stack>
      <Trouble error={rehearsal.error} />
      {r && <Result r={r} />}
    </>
  )
}

function Result({ r }: { r: Schemas['Rehearsal'] }) {
  const keep = useKeep()
  const zone = r.timezone
  const from = Date.parse(r.at)
  return (
    <>
      <Typography variant="h2" className="statement" component="p" data-reached={r.reached ?? 'nobody'}>
        {r.reached ? `Somebody is reached ${Date.parse(r.reached) === from ? 'at once' : `after ${duration(Date.parse(r.reached) - from)}`}, at ${fullTime(r.reached, zone)}.` : `Nobody is reached. ${r.why}`}
      </Typography>
      <p className="sub">
        {r.severity && `It would be ${r.severity}. `}
        {r.plans.map((p, i) => (
          <span key={p.id}>
            {i > 0 && '; '}
            <Link to={keep(`/notices/plans/${p.id}`)}>{p.name}</Link>, for {because[p.by]}
          </span>
        ))}
      </p>
      {r.lines.length > 0 && (
        <Table sx={{ maxWidth: 1000 }} tabIndex={0} aria-label="Who would be told">
          <TableHead>
            <TableRow>
              <TableCell>After</TableCell>
              <TableCell>At</TableCell>
              <TableCell>Is told</TableCell>
              <TableCell>How</TableCell>
              <TableCell>By the plan</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {r.lines.map((l, i) => (
              <TableRow key={i} data-line={l.to}>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{Date.parse(l.at) === from ? 'at once' : duration(Date.parse(l.at) - from)}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{fullTime(l.at, zone)}</TableCell>
                <TableCell sx={{ fontWeight: 600 }}>
                  {l.to}
                  {l.nth > 0 && <span className="sub"> again, {l.nth}</span>}
                  {l.digest && <span className="sub"> in the digest at {fullTime(l.digest, zone)}</span>}
                </TableCell>
                <TableCell>
                  {together(l.ways).map((w, n) => (
                    <div key={n} className={w.why ? 'word-down' : undefined}>
                      {w.person && w.person !== l.to ? `${w.person}: ` : ''}
                      {w.why ? `not reached: ${w.why}` : listed(w.kinds)}
                      {w.at && Date.parse(w.at) > Date.parse(l.digest ?? l.at) && ` from ${fullTime(w.at, zone)}, when it is active`}
                    </div>
                  ))}
                </TableCell>
                <TableCell>
                  {l.plan}, step {l.step}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <p className="sub">Four hours are looked at. Who acknowledges it ends that; who was told is told the end. {zone}</p>
    </>
  )
}

/** Ways of one person at one time stand together. */
function together(ways: Schemas['WayView'][]): { person?: string; kinds: string[]; at?: string; why?: string }[] {
  const out: { person?: string; kinds: string[]; at?: string; why?: string }[] = []
  for (const w of ways) {
    const same = out.find((o) => !o.why && !w.why && o.person === w.person && o.at === w.at)
    if (same) same.kinds.push(kindWords[w.kind] ?? w.kind)
    else out.push({ person: w.person, kinds: [kindWords[w.kind] ?? w.kind], at: w.at, why: w.why })
  }
  return out
}
