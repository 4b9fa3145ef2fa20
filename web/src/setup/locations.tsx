import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, ask, type Schemas } from '../api/client'
import { useAgents, useChecks, useLocations, useMayDefine, useMe } from '../api/queries'
import { Confirm, Trouble, showFaults } from '../parts/trouble'
import { duration, shortTime } from '../time/format'
import { useZone } from '../time/period'
import { SetupHead } from './head'

type Location = Schemas['DefinedLocationSpec']
type Agent = Schemas['AgentView']

/** Where measuring happens, and the agents that do it there. */
export function Locations() {
  const places = useLocations()
  const agents = useAgents()
  const checks = useChecks()
  const me = useMe()
  const [adding, setAdding] = useState(false)
  const may = useMayDefine()
  if (!places.data || !agents.data) return <Trouble error={places.error ?? agents.error} />
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
      {(adding || (live.length === 0 && may)) && <NewLocation onDone={() => setAdding(false)} first={live.length === 0} />}
      {live.map((l) => (
        <Place
          key={l.id}
          location={l}
          agents={agents.data.filter((a) => a.location === l.id)}
          checks={(checks.data ?? []).filter((c) => !c.retired && c.spec.locations.includes(l.id)).length}
          administrator={me.data?.role === 'administrator'}
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
  const client = useQueryClient()
  const restore = useMutation({ mutationFn: () => ask(api.POST('/api/v1/locations/{id}/restore', { params: { path: { id: l.id } } })), onSuccess: () => client.invalidateQueries() })
  return (
    <p className="sub" data-location={l.id}>
      {l.spec.name}, retired{' '}
      {may && (
        <button type="button" className="link sub" onClick={() => restore.mutate()}>
          restore
        </button>
      )}
      {restore.error && <span role="alert">{restore.error.message}</span>}
    </p>
  )
}

function NewLocation({ onDone, first }: { onDone: () => void; first: boolean }) {
  const form = useForm<{ name: string; region: string; note: string }>()
  const client = useQueryClient()
  const save = useMutation({
    mutationFn: (v: { name: string; region: string; note: string }) => ask(api.POST('/api/v1/locations', { body: { spec: { name: v.name, region: v.region || undefined, note: v.note || undefined } } })),
    onSuccess: async () => {
      await client.invalidateQueries()
      onDone()
    },
    onError: (e) => showFaults(e, form.setError, 'spec.'),
  })
  const err = form.formState.errors
  return (
    <form className="form" style={{ marginBottom: 28 }} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      {first && <p style={{ margin: 0 }}>A location is a place to measure from: an office, a data centre, this machine. Name the first one; one command then starts an agent there.</p>}
      <div className="side">
        <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
        <TextField label="Region" {...form.register('region')} />
      </div>
      <TextField label="Note" {...form.register('note')} />
      <Trouble error={save.error} />
      <div style={{ display: 'flex', gap: 12 }}>
        <Button type="submit" variant="contained" disabled={save.isPending}>
          Add
        </Button>
        {!first && (
          <Button variant="text" onClick={onDone}>
            Leave it
          </Button>
        )}
      </div>
    </form>
  )
}

function Place({ location: l, agents, checks, administrator, may }: { location: Location; agents: Agent[]; checks: number; administrator: boolean; may: boolean }) {
  const client = useQueryClient()
  const [token, setToken] = useState<string | undefined>()
  const [retiring, setRetiring] = useState(false)
  const add = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/locations/{id}/agents', { params: { path: { id: l.id } } })),
    onSuccess: (t) => {
      setToken(t.token)
      void client.invalidateQueries({ queryKey: ['agents'] })
    },
  })
  const retire = useMutation({
    mutationFn: () => ask(api.DELETE('/api/v1/locations/{id}', { params: { path: { id: l.id } } })),
    onSuccess: () => client.invalidateQueries(),
    onSettled: () => setRetiring(false),
  })
  return (
    <section style={{ borderTop: '1px solid var(--mui-palette-divider)', padding: '16px 0 20px', maxWidth: 900 }} data-location={l.id}>
      <div style={{ display: 'flex', justifyContent: 'space-between', alignItems: 'baseline' }}>
        <div>
          <h2 style={{ margin: 0 }}>{l.spec.name}</h2>
          <div className="sub">
            {[l.spec.region, `${checks} checks`, l.spec.note].filter(Boolean).join(' · ')}
          </div>
        </div>
        <div style={{ display: 'flex', gap: 10 }}>
          {administrator && <Button onClick={() => add.mutate()}>{agents.length ? 'Another agent' : 'Start an agent here'}</Button>}
          {may && (
            <Button variant="text" color="error" onClick={() => setRetiring(true)}>
              Retire
            </Button>
          )}
        </div>
      </div>
      <Trouble error={add.error ?? retire.error} />
      {token && <Command token={token} location={l.id} />}
      {agents.length === 0 && !token && <p className="sub">No agent has a token for this location yet, so nothing is measured from here.{administrator ? '' : ' An administrator can make one.'}</p>}
      {agents.map((a) => (
        <AgentLine key={a.id} agent={a} administrator={administrator} />
      ))}
      <Confirm open={retiring} title={`Retire ${l.spec.name}?`} text="Nothing can be measured from here any more. What was measured stays, and the location can be restored." act={`Retire ${l.spec.name}`} onYes={() => retire.mutate()} onNo={() => setRetiring(false)} />
    </section>
  )
}

/** The one command that starts an agent, with the token shown this once. */
function Command({ token, location }: { token: string; location: string }) {
  const text = `umask 077; echo ${token} > ${location}.token\n./bin/kestite agent --server ${window.location.origin} --token-file ${location}.token --data ./agent-${location}`
  return (
    <div style={{ margin: '12px 0' }}>
      <p style={{ margin: '0 0 6px' }}>Run this at the location, as root or with CAP_NET_RAW so that it may ping. The token is shown this once.</p>
      <code className="command">{text}</code>
      <Button sx={{ mt: 1 }} onClick={() => void navigator.clipboard.writeText(text)}>
        Copy
      </Button>
    </div>
  )
}

function AgentLine({ agent: a, administrator }: { agent: Agent; administrator: boolean }) {
  const { zone } = useZone()
  const client = useQueryClient()
  const [asking, setAsking] = useState(false)
  const revoke = useMutation({
    mutationFn: () => ask(api.DELETE('/api/v1/agents/{id}', { params: { path: { id: a.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['agents'] }),
    onSettled: () => setAsking(false),
  })
  return (
    <div style={{ marginTop: 10 }}>
      <div style={{ display: 'flex', gap: 20, flexWrap: 'wrap', alignItems: 'baseline' }}>
        <span className={a.connected ? 'word-up' : 'word-down'}>{a.connected ? 'connected' : a.seen_at ? 'silent' : 'never seen'}</span>
        <span className="sub">{a.seen_at ? `last heard ${shortTime(a.seen_at, zone)}` : 'it has not called yet'}</span>
        <span className="sub">version {a.version || '–'}</span>
        <span className="sub">clock {Math.abs(a.clock_offset_ms) < 1000 ? 'right' : `${duration(Math.abs(a.clock_offset_ms))} ${a.clock_offset_ms > 0 ? 'ahead' : 'behind'}`}</span>
        <span className="sub">{a.backlog} waiting for delivery</span>
        <span className="sub">starts {a.lateness_ms.toFixed(1)} ms late (99th percentile)</span>
        {administrator && (
          <button type="button" className="link sub" onClick={() => setAsking(true)}>
            revoke its token
          </button>
        )}
      </div>
      {a.complaint && <p className="trouble">This agent says: {a.complaint}</p>}
      <Trouble error={revoke.error} />
      <Confirm open={asking} title="Revoke this agent’s token?" text="The agent can no longer take work nor deliver what it has measured. This cannot be undone; a new token can be made." act="Revoke the token" onYes={() => revoke.mutate()} onNo={() => setAsking(false)} />
    </div>
  )
}
