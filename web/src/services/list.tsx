import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { useMemo } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useMayDefine, useServices, useStates, useStrips } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip } from '../axis/strip'
import { Export } from '../parts/export'
import { More, useFind, useShown } from '../parts/more'
import { usePartyName } from '../parts/party'
import { Awaited } from '../parts/trouble'
import { duration } from '../time/format'
import { useKeep, useSpan } from '../time/span'

const severity: Record<string, number> = { down: 0, degraded: 1, unmeasured: 2, up: 3 }

/** All services, their state now and their states over the span. */
export function ServiceList() {
  const [span] = useSpan()
  const [params, setParams] = useSearchParams()
  const services = useServices()
  const states = useStates()
  const keep = useKeep()
  const [find, text, setText] = useFind()
  const [most, more] = useShown()
  const sort = params.get('sort') ?? 'name'
  const retired = params.get('retired') === 'yes'
  const may = useMayDefine()
  const stateOf = useMemo(() => {
    const all = new Map(states.data?.map((s) => [s.service, s]))
    return (id: string) => all.get(id)
  }, [states.data])
  const change = (key: string, value: string | undefined) =>
    setParams(
      (p) => {
        if (value) p.set(key, value)
        else p.delete(key)
        return p
      },
      { replace: true },
    )
  const team = usePartyName('team')
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const matching = (services.data ?? [])
    .filter((s) => s.retired === retired)
    .filter((s) => words.every((w) => [s.spec.name, s.spec.kind, team(s.spec.owner), ...(s.spec.tags ?? [])].join(' ').toLowerCase().includes(w)))
    .sort((a, b) => {
      if (sort === 'state') {
        const d = (severity[stateOf(a.id)?.state ?? 'unmeasured'] ?? 2) - (severity[stateOf(b.id)?.state ?? 'unmeasured'] ?? 2)
        if (d !== 0) return d
      }
      if (sort === 'kind' && a.spec.kind !== b.spec.kind) return a.spec.kind.localeCompare(b.spec.kind)
      return a.spec.name.localeCompare(b.spec.name)
    })
  const shown = matching.slice(0, most)
  const strips = useStrips(shown.map((s) => s.id), span)
  if (!services.data || !strips.data?.span) return <Awaited error={services.error ?? strips.error} />
  const axis = axisOf(strips.data.span)
  return (
    <>
      <Band span={strips.data.span} />
      <div className="head">
        <h1 style={{ margin: 0 }}>Services</h1>
        <div className="actions">
          <TextField
            placeholder="name, owner, kind or tag"
            value={text}
            sx={{ width: 220 }}
            slotProps={{ htmlInput: { 'aria-label': 'Filter' } }}
            onChange={(e) => setText(e.target.value)}
          />
          <Button component={Link} to={keep('/checks')} variant="text">
            All checks
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
        <span>
          {['name', 'state', 'kind'].map((k) => (
            <button key={k} type="button" className="link" style={{ fontWeight: sort === k ? 600 : 400, marginRight: 10 }} aria-pressed={sort === k} onClick={() => change('sort', k === 'name' ? undefined : k)}>
              {k}
            </button>
          ))}
        </span>
        <span>State over the span</span>
        <span style={{ textAlign: 'right' }}>Now</span>
      </div>
      {shown.map((s) => {
        const state = stateOf(s.id)
        const word = state?.state ?? 'unmeasured'
        return (
          <Link key={s.id} to={keep(`/services/${s.id}`)} className="entry axis-row" data-service={s.id}>
            <span>
              <div className="name">{s.spec.name}</div>
              <div className="sub">
                {s.spec.kind}
                {s.spec.owner ? ` · ${team(s.spec.owner)}` : ''}
              </div>
            </span>
            <Strip zooms columns={strips.data.strips[s.id]?.strip ?? ''} total={strips.data.strips[s.id]?.total_ms ?? {}} axis={axis} label={s.spec.name} />
            <span style={{ textAlign: 'right', lineHeight: 1.3 }}>
              <div className={`word-${word}`}>{word !== 'unmeasured' ? word : state?.awaiting ? 'awaiting first measurement' : 'not measured'}</div>
              <div className="sub">{state && `for ${duration(axis.now - Date.parse(state.since_at))}`}{state?.never_good ? ', never good' : ''}
                {state && state.waiting > 0 ? ', not yet confirmed' : ''}</div>
            </span>
          </Link>
        )
      })}
      <More shown={shown.length} of={matching.length} onMore={more} />
      {shown.length === 0 && (
        <div className="empty">
          {services.data.length === 0 ? (
            <p>
              No service is described yet. {may ? <Link to={keep('/services/new')}>Describe the first one</Link> : 'A manager can describe one'}: its address is enough to begin with.
            </p>
          ) : (
            <p>No service matches. Take a word away.</p>
          )}
        </div>
      )}
      <Legend only={['up', 'degraded', 'down', 'unmeasured']} />
      <div style={{ display: 'flex', gap: 24, marginTop: 14 }}>
        <Export name="services" columns={['id', 'name', 'kind', 'owner', 'state', 'since']} rows={matching.map((s) => [s.id, s.spec.name, s.spec.kind, team(s.spec.owner), stateOf(s.id)?.state, stateOf(s.id)?.since_at])} />
        {(retired || services.data.some((s) => s.retired)) && (
          <button type="button" className="link sub" onClick={() => change('retired', retired ? undefined : 'yes')}>
            {retired ? 'show those in force' : 'show retired ones'}
          </button>
        )}
      </div>
    </>
  )
}
