import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Stack from '@mui/material/Stack'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useAgents, useChecks, useLocations, useMay, useMayDefineForAll } from '../api/queries'
import { counted } from '../parts/counted'
import { decimal } from '../parts/decimal'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { RetireQuestion, useRetiring } from '../parts/retire'
import { Awaited, Confirm, Trouble } from '../parts/trouble'
import { duration, shortTime } from '../time/format'
import { useZone } from '../time/span'
import { SetupHead } from './head'

type Location = Schemas['DefinedLocationSpec']
type Agent = Schemas['AgentView']

/** Where measuring happens, and the agents that do it there. */
export function Locations() {
  const places = useLocations()
  const agents = useAgents()
  const checks = useChecks()
  const permits = useMay()
  const [adding, setAdding] = useState(false)
  const may = useMayDefineForAll()
  if (!places.data || !agents.data) return <Awaited error={places.error ?? agents.error} />
  const live = places.data.filter((l) => !l.retired)
  return (
    <>
      <SetupHead title="Locations">
        {may && (
          <Button variant={live.length ? 'outlined' : 'contained'} onClick={() => setAdding(true)}>
            Add a location
          </Button>
        )}
      </SetupHead>
      {(adding || (live.length === 0 && may)) && <LocationForm onDone={() => setAdding(false)} first={live.length === 0} />}
      {live.map((l) => (
        <Place
          key={l.id}
          location={l}
          agents={agents.data.filter((a) => a.location === l.id)}
          checks={(checks.data ?? []).filter((c) => !c.retired && c.spec.locations.includes(l.id)).length}
          administrator={permits('administer')}
          may={may}
        />
      ))}
      {places.data
        .filter((l) => l.retired)
        .map((l) => (
          <RetiredPlace key={l.id} location={l} may={may} />
        ))}
    </>
  )
}

function RetiredPlace({ location: l, may }: { location: Location; may: boolean }) {
  const retiring = useRetiring('locations')
  return (
    <div className="sub" data-location={l.id}>
      {l.spec.name}, retired{' '}
      {may && (
        <button type="button" className="link sub" onClick={() => retiring.restore(l.id)}>
          restore
        </button>
      )}
      <Trouble error={retiring.error} />
    </div>
  )
}

type Values = { name: string; region: string; note: string; latitude: string; longitude: string; address: string; echo_port: string; references: string; per_second: string; per_target_s: string; per_day: string }

function LocationForm({ location, onDone, first }: { location?: Location; onDone: () => void; first?: boolean }) {
  const s = location?.spec
  const text = (v: number | undefined) => v?.toString() ?? ''
  const fresh: Values = {
    name: s?.name ?? '',
    region: s?.region ?? '',
    note: s?.note ?? '',
    latitude: text(s?.latitude),
    longitude: text(s?.longitude),
    address: s?.address ?? '',
    echo_port: text(s?.echo_port),
    references: s?.references?.join(', ') ?? '',
    per_second: text(s?.rates?.per_second),
    per_target_s: text(s?.rates?.per_target_s),
    per_day: text(s?.rates?.per_day),
  }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, location?.revision ?? 0, { draft: `locations/${location?.id ?? 'new'}` })
  const save = useChange({
    mutationFn: async (v: Values) => {
      const number = (t: string) => (t.trim() === '' ? undefined : Number(decimal(t)))
      const rates = { per_second: number(v.per_second), per_target_s: number(v.per_target_s), per_day: number(v.per_day) }
      const spec = {
        name: v.name,
        region: v.region || undefined,
        note: v.note || undefined,
        latitude: number(v.latitude),
        longitude: number(v.longitude),
        address: v.address.trim() || undefined,
        echo_port: number(v.echo_port),
        references: v.references.split(/[\s,;]+/).filter(Boolean),
        rates: Object.values(rates).some((r) => r !== undefined) ? rates : undefined,
      }
      if (location) await ask(api.PUT('/api/v1/locations/{id}', { params: { path: { id: location.id } }, body: { revision: location.revision, spec } }))
      else await ask(api.POST('/api/v1/locations', { body: { spec } }))
    },
    again: 'all',
    unawaited: true, // nothing moves once the list shows the change
    kept,
    onSuccess: onDone,
    onError: (e) => {
      if (!(e instanceof Problem)) return
      for (const [path, message] of Object.entries(e.fields)) form.setError(path.replace(/^spec\.(rates\.)?/, '').replace(/\[.*$/, '') as keyof Values, { message })
    },
  })
  const err = form.formState.errors
  const field = (name: keyof Values, label: string, help?: string, unit?: string) => (
    <TextField label={label} error={Boolean(err[name])} helperText={err[name]?.message ?? help} slotProps={{ input: { endAdornment: unit } }} {...form.register(name)} />
  )
  return (
    <form className="form in-place" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={location && { path: 'locations', id: location.id }} />
      {first && <Box component="p" sx={{ margin: 0 }}>A location is a place to measure from: an office, a data centre, this machine. Name the first one; one command then starts an agent there.</Box>}
      <div className="side">
        <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
        {field('region', 'Region')}
      </div>
      {field('note', 'Note')}
      <details className="more" open={Boolean(location)}>
        <summary>Where it is, how it knows that it is connected, how much it may measure</summary>
        <div className="side">
          {field('address', 'Address', 'Where checks between locations find it')}
          {field('echo_port', 'UDP echo port', 'Where its agent answers; empty: it does not')}
          {field('latitude', 'Latitude', undefined, '° N')}
          {field('longitude', 'Longitude', undefined, '° E')}
        </div>
        {field('references', 'Reference targets', 'Hosts, or host:port, that answer whenever the location is connected. While none does, a failure is the location’s own and counts as unmeasured.')}
        <div className="side">
          {field('per_second', 'At most', 'Empty: no bound', 'a second')}
          {field('per_target_s', 'One target every', 'Empty: no bound', 's')}
          {field('per_day', 'At most', 'Empty: no bound', 'a day')}
        </div>
      </details>
      <FormEnd error={save.error} busy={save.isPending} save={location ? `Save as revision ${location.revision + 1}` : 'Add'} leave={first ? undefined : onDone} />
    </form>
  )
}

function Place({ location: l, agents, checks, administrator, may }: { location: Location; agents: Agent[]; checks: number; administrator: boolean; may: boolean }) {
  const [token, setToken] = useState<string | undefined>()
  const [editing, setEditing] = useState(false)
  const add = useChange({
    mutationFn: () => ask(api.POST('/api/v1/locations/{id}/agents', { params: { path: { id: l.id } } })),
    again: ['agents'],
    unawaited: true,
    onSuccess: (t) => setToken(t.token),
  })
  const retiring = useRetiring('locations')
  return (
    <Box component="section" sx={{ borderTop: '1px solid var(--mui-palette-divider)', padding: '16px 0 20px', maxWidth: '900px' }} data-location={l.id}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'baseline' }}>
        <div>
          <Typography variant="h2">{l.spec.name}</Typography>
          <div className="sub">
            {[l.spec.region, counted(checks, 'check'), l.spec.address, l.spec.latitude !== undefined && `${l.spec.latitude}° N ${l.spec.longitude}° E`, l.spec.note].filter(Boolean).join(' · ')}
          </div>
        </div>
        <Box sx={{ display: 'flex', gap: '10px' }}>
          {administrator && <Button onClick={() => add.mutate()}>{agents.length ? 'Another agent' : 'Start an agent here'}</Button>}
          {may && (
            <Button variant="text" onClick={() => setEditing(!editing)}>
              Edit
            </Button>
          )}
          {may && (
            <Button variant="text" color="error" onClick={() => retiring.ask(l.id)}>
              Retire
            </Button>
          )}
        </Box>
      </Box>
      <Trouble error={add.error ?? retiring.error} />
      {editing && <LocationForm location={l} onDone={() => setEditing(false)} />}
      {token && <Command token={token} location={l} />}
      {agents.length === 0 && !token && <p className="sub">No agent has a token for this location yet, so nothing is measured from here.{administrator ? '' : ' An administrator can make one.'}</p>}
      {agents.map((a) => (
        <AgentLine key={a.id} agent={a} administrator={administrator} may={may} />
      ))}
      <RetireQuestion of={retiring} title={`Retire ${l.spec.name}?`} text="Nothing can be measured from here any more. What was measured stays, and the location can be restored." act={`Retire ${l.spec.name}`} />
    </Box>
  )
}

/** The one command that starts an agent, with the token shown this once; and the same as a service of the system. */
function Command({ token, location: l }: { token: string; location: Location }) {
  const [address, setAddress] = useState(() => localStorage.getItem(addressKey) ?? window.location.origin)
  const server = address.trim().replace(/\/+$/, '')
  const here = /^https?:\/\/(localhost|127\.|\[::1\])/.test(server)
  const good = /^https?:\/\/[^\s/'"$`\\]+$/.test(server)
  const echo = l.spec.echo_port ? ` --echo :${l.spec.echo_port}` : ''
  // A server that is not on this machine and speaks no TLS: the agent wants to be told that it may.
  const plain = server.startsWith('http:') && !here ? ' --plain-http' : ''
  const program = `curl -fsS -H "Authorization: Bearer $(cat ${l.id}.token)" ${server}/api/agent/v1/program -o kestite && chmod +x kestite`
  const once = `umask 077; echo ${token} > ${l.id}.token
${program}
./kestite agent --server ${server}${plain} --token-file ${l.id}.token --data ./agent-${l.id}${echo}`
  const unit = `umask 077; echo ${token} > ${l.id}.token
${program} && sudo install -m 755 kestite /usr/local/bin/kestite
sudo install -d -m 700 /etc/kestite && sudo install -m 600 ${l.id}.token /etc/kestite/agent.token && rm ${l.id}.token
sudo tee /etc/systemd/system/kestite-agent.service >/dev/null <<'UNIT'
[Unit]
Description=Kestite agent at ${l.spec.name.replace(/[\r\n]/g, ' ')}
After=network-online.target
Wants=network-online.target

[Service]
DynamicUser=yes
LoadCredential=token:/etc/kestite/agent.token
StateDirectory=kestite-agent
AmbientCapabilities=CAP_NET_RAW
ExecStart=/usr/local/bin/kestite agent --server ${server}${plain} --token-file %d/token --data %S/kestite-agent${echo}
Restart=always

[Install]
WantedBy=multi-user.target
UNIT
sudo systemctl daemon-reload && sudo systemctl enable --now kestite-agent`
  return (
    <Stack spacing={1.5} sx={{ my: 1.5, maxWidth: 760 }}>
      <TextField
        label="Where the agent reaches this server"
        value={address}
        error={!good}
        helperText={!good ? 'Scheme, host and port, such as https://kestite.example.org' : here ? 'Only an agent on the server’s own machine reaches it there: for another, write the address that it has on the network.' : 'From the location, not from this browser'}
        onChange={(e) => {
          setAddress(e.target.value)
          localStorage.setItem(addressKey, e.target.value)
        }}
      />
      <span>
        Run this at the location, as root or with CAP_NET_RAW so that it may ping and trace. It fetches the program from this server, for Linux on a processor like the server’s, and starts it. The token is shown this once.
      </span>
      {good && <Copied text={once} />}
      {good && (
        <details className="more">
          <summary>As a service of the system (systemd)</summary>
          <Copied text={unit} />
        </details>
      )}
    </Stack>
  )
}

/** Where this browser keeps the address that agents were told last. */
const addressKey = 'kestite-agents-address'

function Copied({ text }: { text: string }) {
  return (
    <div>
      <code className="command">{text}</code>
      <Button sx={{ mt: 1 }} onClick={() => void navigator.clipboard.writeText(text)}>
        Copy
      </Button>
    </div>
  )
}

/** How far an agent's own clock is off, and how well it knows the time that counts. */
function clockWords(a: Agent): string {
  const off = Math.abs(a.clock_offset_ms)
  const own = off < 1000 ? 'own clock right' : `own clock ${duration(off)} ${a.clock_offset_ms > 0 ? 'ahead' : 'behind'}`
  return a.uncertain_ms > 0 ? `${own}, placed to ± ${a.uncertain_ms < 1000 ? `${a.uncertain_ms} ms` : `${(a.uncertain_ms / 1000).toFixed(1)} s`}` : own
}

/** What an agent's sockets allow, and how to allow more. */
const sockets: Record<string, string> = {
  raw: 'raw sockets: everything can be measured',
  datagram: 'datagram ICMP: no paths by TCP; give it CAP_NET_RAW for those',
  none: 'no ICMP sockets: no ping, and paths by UDP alone; give it CAP_NET_RAW, or put its group into net.ipv4.ping_group_range',
}

/** Measurements that no server could take: what they are, why, and trying once more. */
function Quarantine({ agent: a, may }: { agent: Agent; may: boolean }) {
  const { zone } = useZone()
  const release = useChange({
    mutationFn: () => ask(api.POST('/api/v1/agents/{id}/release', { params: { path: { id: a.id } } })),
    again: ['agents'],
  })
  const one = a.set_aside === 1
  return (
    <div className="trouble aside" data-quarantine>
      <p>
        {one ? 'One measurement' : `${a.set_aside} measurements`} of this agent could not be taken by any server. {one ? 'It is' : 'They are'} set aside on the agent’s disk for 30 days at most, so that the others pass.
      </p>
      <details className="more">
        <summary>{a.aside.length < a.set_aside ? `The latest ${a.aside.length}` : 'What, and why'}</summary>
        <Table>
          <TableHead>
            <TableRow>
              <TableCell>Check</TableCell>
              <TableCell>Measured</TableCell>
              <TableCell>Why it could not be taken</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {a.aside.map((x, i) => (
              <TableRow key={i}>
                <TableCell>{x.name}</TableCell>
                <TableCell>{shortTime(x.at, zone)}</TableCell>
                <TableCell>{x.reason}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </details>
      {may && (
        <Button disabled={release.isPending} onClick={() => release.mutate()}>
          {release.isSuccess ? 'Asked; the agent tries again' : 'Let the agent deliver them again'}
        </Button>
      )}
      <Trouble error={release.error} />
    </div>
  )
}

/** Measurements that an agent's store could not keep, until somebody has seen it. */
function Lost({ agent: a }: { agent: Agent }) {
  const { zone } = useZone()
  const may = useMay()('operate')
  const see = useChange({
    mutationFn: () => ask(api.POST('/api/v1/agents/{id}/lost/seen', { params: { path: { id: a.id } }, body: { lost: a.lost } })),
    again: ['agents'],
  })
  const fresh = a.lost - a.lost_seen
  return (
    <div className="trouble aside" data-lost>
      <p>
        {fresh === 1 ? 'One measurement' : `${fresh} measurements`} of this agent {fresh === 1 ? 'is' : 'are'} lost{a.lost_at ? `, the last at ${shortTime(a.lost_at, zone)}` : ''}: its store was full, or they were older than 30 days when a server could be
        reached again. The time they measured counts as unmeasured.
      </p>
      {may && (
        <Button disabled={see.isPending} onClick={() => see.mutate()}>
          I have seen this
        </Button>
      )}
      <Trouble error={see.error} />
    </div>
  )
}

function AgentLine({ agent: a, administrator, may }: { agent: Agent; administrator: boolean; may: boolean }) {
  const { zone } = useZone()
  const [asking, setAsking] = useState(false)
  const revoke = useChange({
    mutationFn: () => ask(api.DELETE('/api/v1/agents/{id}', { params: { path: { id: a.id } } })),
    again: ['agents'],
    onSettled: () => setAsking(false),
  })
  return (
    <Box sx={{ marginTop: '10px' }}>
      <Box sx={{ display: 'flex', gap: '0 20px', flexWrap: 'wrap', alignItems: 'baseline' }}>
        <span className={a.connected ? 'word-up' : 'word-down'}>{a.connected ? 'connected' : a.seen_at ? 'silent' : 'never seen'}</span>
        <span className="sub">{a.seen_at ? `last heard ${shortTime(a.seen_at, zone)}` : 'it has not called yet'}</span>
        {a.seen_at && <span className="sub">version {a.version || '–'}</span>}
        {a.seen_at && <span className="sub">{clockWords(a)}</span>}
        {a.seen_at && <span className="sub">{a.backlog} waiting for delivery</span>}
        <span className="sub">{counted(a.holds, 'check')} held</span>
        {a.seen_at && a.lateness_ms > 0 && <span className="sub">99 % start within {a.lateness_ms.toFixed(1)} ms</span>}
      </Box>
      <div className="sub">
        {a.sockets && <span className={a.sockets === 'none' ? 'trouble' : undefined}>{sockets[a.sockets]} · </span>}
        {administrator && (
          <button type="button" className="link" onClick={() => setAsking(true)}>
            revoke its token
          </button>
        )}
      </div>
      {a.cut_off && <p className="trouble">{a.cut_off}. What it measures meanwhile says nothing of the targets.</p>}
      {a.complaint && <p className="trouble">This agent says: {a.complaint}</p>}
      {a.lost > a.lost_seen && <Lost agent={a} />}
      {a.set_aside > 0 && <Quarantine agent={a} may={may} />}
      <Trouble error={revoke.error} />
      <Confirm open={asking} title="Revoke this agent’s token?" text="The agent can no longer take work nor deliver what it has measured. This cannot be undone; a new token can be made." act="Revoke the token" onYes={() => revoke.mutate()} onNo={() => setAsking(false)} />
    </Box>
  )
}
