import Autocomplete from '@mui/material/Autocomplete'
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
import { type Schemas } from '../api/client'
import { useServices } from '../api/queries'
import { kindWords } from '../notices/words'
import { Minute, noDate } from '../parts/day'
import { useParam } from '../parts/group-by'
import { Awaited, Trouble } from '../parts/trouble'
import { duration, fullTime, percent, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { useSupposition } from './queries'

const lengths: Record<string, string> = { 900: '15 min', 3600: '1 h', 14400: '4 h', 43200: '12 h', 86400: '1 day', 604800: '7 days' }

/** What a failure to come would do: to other services, to agreements, and who would be told. */
export function SupposePage() {
  const { home } = useZone()
  const services = useServices()
  const [what, setWhat] = useParam('what')
  const [when, setWhen] = useParam('when')
  const [lasts, setLasts] = useParam('lasts')
  const ids = what ? what.split(' ') : []
  const at = when && when !== noDate ? parse(when, 'yyyy-MM-dd HH:mm', TZDate.tz(home)) : undefined
  const seconds = lasts in lengths ? Number(lasts) : 3600
  const from = at && !Number.isNaN(at.getTime()) ? new Date(at.getTime()).toISOString() : undefined
  const supposed = useSupposition(ids, from, seconds)
  if (!services.data) return <Awaited error={services.error} />
  const live = services.data.filter((s) => !s.retired)
  return (
    <>
      <div className="head">
        <Typography variant="h1">Suppose it fails</Typography>
      </div>
      <p className="lead">Choose what fails, from when and for how long: who goes down with it, what it costs, who would be told. Nothing is changed and nothing is sent.</p>
      <Stack direction="row" sx={{ flexWrap: 'wrap', gap: 1.5, alignItems: 'start', mb: 2 }}>
        <Autocomplete
          multiple
          options={live.map((s) => s.id)}
          value={ids}
          getOptionLabel={(id) => live.find((s) => s.id === id)?.spec.name ?? id}
          noOptionsText="No service of that name"
          sx={{ minWidth: 320, maxWidth: 560 }}
          onChange={(_, list) => setWhat(list.join(' '))}
          renderInput={(params) => <TextField {...params} label="What fails" />}
        />
        <Minute label="From" value={when} change={setWhen} zone={home} width={220} help={`${home}; empty: now`} />
        <TextField select label="Lasts" value={String(seconds)} onChange={(e) => setLasts(e.target.value)} sx={{ width: 120 }}>
          {Object.entries(lengths).map(([s, words]) => (
            <MenuItem key={s} value={s}>
              {words}
            </MenuItem>
          ))}
        </TextField>
      </Stack>
      <Trouble error={supposed.error} />
      {ids.length === 0 && <div className="empty">Choose a service: a network, a supplier, one of a pair.</div>}
      {ids.length > 0 && supposed.data && <Result s={supposed.data} />}
    </>
  )
}

function Result({ s }: { s: Schemas['Supposition'] }) {
  const keep = useKeep()
  const zone = s.timezone
  const down = s.effects.filter((e) => e.down)
  const weaker = s.effects.filter((e) => !e.down)
  return (
    <>
      <Typography variant="h2" className="statement" component="p" data-supposed>
        {s.words}
      </Typography>
      <p className="sub">
        {fullTime(s.from, zone)} to {fullTime(s.to, zone)}, {zone}
      </p>
      <section aria-label="Down">
        <Typography variant="h2" className="group">
          Down <span className="sub">{down.length}</span>
        </Typography>
        {down.map((e) => (
          <div key={e.service} className="entry low" data-down={e.service}>
            <Link className="name" to={keep(`/services/${e.service}`)}>
              {e.name}
            </Link>{' '}
            <span className="sub">{e.first ? 'what is supposed to fail' : e.already ? 'down already' : `needs ${e.because.join(' and ')}`}</span>
          </div>
        ))}
      </section>
      {weaker.length > 0 && (
        <section aria-label="Less to spare">
          <Typography variant="h2" className="group">
            Less to spare <span className="sub">{weaker.length}</span>
          </Typography>
          {weaker.map((e) => (
            <div key={e.service} className="entry low" data-weaker={e.service}>
              <Link className="name" to={keep(`/services/${e.service}`)}>
                {e.name}
              </Link>{' '}
              <span className="sub">
                without {e.because.join(' and ')}, {e.spare === 0 ? <b className="word-degraded">nothing more may fail</b> : `${e.spare} more may fail`}
              </span>
            </div>
          ))}
        </section>
      )}
      <section aria-label="What it costs">
        <Typography variant="h2" className="group">
          What it costs
        </Typography>
        {s.costs.length === 0 && <p className="sub">Nothing was promised of what would be down.</p>}
        {s.costs.length > 0 && (
          <Table sx={{ maxWidth: 1100 }} tabIndex={0} aria-label="What it costs">
            <TableHead>
              <TableRow>
                <TableCell>Agreement</TableCell>
                <TableCell align="right">Downtime</TableCell>
                <TableCell align="right">Allowance left</TableCell>
                <TableCell align="right">Then</TableCell>
                <TableCell>Used up</TableCell>
                <TableCell align="right">The period, if all else is well</TableCell>
                <TableCell align="right">Credit</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {s.costs.map((c) => (
                <TableRow key={`${c.agreement} ${c.period.name}`} data-costs={c.agreement}>
                  <TableCell>
                    <Link to={keep(`/agreements/${c.agreement}`)}>{c.name}</Link>
                    <div className="sub">
                      {c.customer || 'internal'} · {c.target_percent} % · {c.period.words}
                    </div>
                  </TableCell>
                  {c.fault ? (
                    <TableCell colSpan={6}>cannot be accounted: {c.fault}</TableCell>
                  ) : (
                    <>
                      <TableCell align="right">{c.excused ? `none: ${c.excused} is excused` : c.downtime_ms ? duration(c.downtime_ms) : 'none: outside its hours, or planned'}</TableCell>
                      <TableCell align="right">{duration(c.left_ms)}</TableCell>
                      <TableCell align="right" className={c.left_after_ms < 0 ? 'word-down' : undefined}>
                        {duration(c.left_after_ms)}
                      </TableCell>
                      <TableCell>{c.missed_now ? 'already' : c.runs_out_at ? shortTime(c.runs_out_at, zone) : 'no'}</TableCell>
                      <TableCell align="right">
                        {c.availability_percent ? percent(c.availability_percent) : ''} <b className={c.missed ? 'word-missed' : 'word-met'}>{c.missed ? 'missed' : 'met'}</b>
                      </TableCell>
                      <TableCell align="right">{c.credit_percent === c.credit_now_percent ? `${c.credit_percent} %` : <b className="word-down">{`${c.credit_now_percent} % → ${c.credit_percent} %`}</b>}</TableCell>
                    </>
                  )}
                </TableRow>
              ))}
            </TableBody>
          </Table>
        )}
      </section>
      <section aria-label="Who would be told">
        <Typography variant="h2" className="group">
          Who would be told
        </Typography>
        {s.told.length === 0 && <p className="sub">Nobody: no notice plan is for it, or it opens no incident.</p>}
        {s.told.slice(0, 12).map((l, i) => (
          <div key={i} className="entry low" data-tells={l.to}>
            {shortTime(l.at, zone)} <b>{l.to}</b>{' '}
            <span className="sub">
              {l.ways.some((w) => !w.why) ? `by ${[...new Set(l.ways.filter((w) => !w.why).map((w) => kindWords[w.kind] ?? w.kind))].join(', ')}` : `not reached: ${l.ways[0]?.why ?? ''}`} {l.of ? `· of ${l.of} ` : ''}· {l.plan}, step {l.step}
            </span>
          </div>
        ))}
        {s.told.length > 12 && <p className="sub">and {s.told.length - 12} more, if nobody acknowledges it</p>}
      </section>
    </>
  )
}
