import Button from '@mui/material/Button'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useMayChange, useServices } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { Trouble } from '../parts/trouble'
import { DependsFields } from '../services/depends-fields'
import { percent, shortTime } from '../time/format'
import { useKeep, useZone } from '../time/span'
import { useModelled, type Node } from './queries'

type Props = { node: Node; neededBy: Node[]; name: (id: string) => string; live: boolean; may: boolean; onPick: (id: string) => void; onAround: () => void; onMoment: () => void }

/** A service among those it needs: changed in its place. */
export function Picked({ node: n, neededBy, name, live, may, onPick, onAround, onMoment }: Props) {
  const { zone } = useZone()
  const keep = useKeep()
  const [editing, setEditing] = useState(false)
  const services = useServices()
  const mayChange = useMayChange()
  const service = services.data?.find((s) => s.id === n.service && !s.retired)
  return (
    <section data-picked={n.service} aria-label={n.name}>
      <h2>
        <Link to={keep(`/services/${n.service}`)}>{n.name}</Link>
      </h2>
      <p>
        <b className={`word-${n.state}`}>{n.state === 'unmeasured' ? 'not measured' : n.state}</b> <span className="sub">since {shortTime(n.since_at, zone)}</span>
      </p>
      {editing && service ? (
        <NeedsForm service={service} all={services.data ?? []} done={() => setEditing(false)} />
      ) : (
        <>
          <h2>It needs</h2>
          {n.groups.length === 0 && <p className="sub">Nothing that is described here.</p>}
          {n.groups.map((g, i) => (
            <div key={i} data-group={i} className="needed">
              {g.need < g.services.length && (
                <b>
                  {g.need} of {g.services.length}:{' '}
                </b>
              )}
              {g.services.map((m, k) => (
                <span key={m}>
                  {k > 0 && ', '}
                  <button type="button" className="link" onClick={() => onPick(m)}>
                    {name(m)}
                  </button>
                </span>
              ))}
              {g.need < g.services.length && <span className={g.up < g.need ? 'word-down' : 'sub'}> {g.up === g.need ? 'nothing to spare' : g.up < g.need ? `only ${g.up} up` : `${g.up - g.need} to spare`}</span>}
            </div>
          ))}
          <p className="sub">{n.decided ? 'Checks of its own decide its state.' : n.groups.length ? 'Its state is what they make it.' : 'Nothing decides its state.'}</p>
          {may && live && service && mayChange(service.spec.owner) && <Button onClick={() => setEditing(true)}>Change what it needs</Button>}
        </>
      )}
      <h2>Needed by</h2>
      {neededBy.length === 0 ? <p className="sub">Nothing shown here.</p> : null}
      {neededBy.map((x, k) => (
        <span key={x.service}>
          {k > 0 && ', '}
          <button type="button" className="link" onClick={() => onPick(x.service)}>
            {x.name}
          </button>
        </span>
      ))}
      {n.groups.length > 0 && <Modelled id={n.service} />}
      <p className="sub further">
        <button type="button" className="link" onClick={onAround}>
          only what hangs together with it
        </button>
        <br />
        <Link to={`/services/suppose?what=${n.service}`}>suppose it fails</Link>
        <br />
        <button type="button" className="link" onClick={onMoment}>
          {live ? 'at another moment' : 'as it is now'}
        </button>
      </p>
    </section>
  )
}

/** The availability that follows from what it needs. */
export function Modelled({ id }: { id: string }) {
  const model = useModelled(id)
  const m = model.data
  if (!m) return <Trouble error={model.error} />
  if (m.leaves.length === 0) return m.fault ? <p className="sub">{m.fault}</p> : null
  const without = (what: 'promise' | 'measurement') => m.leaves.filter((l) => l.without?.includes(what)).map((l) => l.name).join(', ')
  return (
    <section aria-label="What could be promised" data-modelled>
      <h2>What could be promised</h2>
      {m.fault && <p className="trouble">{m.fault}</p>}
      <div>
        {m.targets ? (
          <div title={m.targets.words}>
            <b>{percent(m.targets.percent)}</b> <span className="sub">by what is promised of what it needs</span>
          </div>
        ) : (
          !m.fault && <div className="sub">Nothing is promised of {without('promise')}.</div>
        )}
        {m.measured ? (
          <div title={m.measured.words} data-between={`${m.measured.low_percent}–${m.measured.high_percent}`}>
            <b>{percent(m.measured.percent)}</b>{' '}
            <span className="sub">
              by the last 90 days, which leave it between {percent(m.measured.low_percent)} and {percent(m.measured.high_percent)}
            </span>
          </div>
        ) : (
          !m.fault && <div className="sub">{without('measurement')} was not measured in the last 90 days.</div>
        )}
        {(m.targets ?? m.measured) && <div className="sub">The mean of a model, over years, each failing independently: no promise that a single month is met.</div>}
        {m.promises.map((p) => (
          <div key={p.agreement} data-exceeds={p.exceeds}>
            {p.exceeds ? (
              <b className="word-degraded">
                {p.name} promises {p.target_percent} %, more than follows from what it needs
              </b>
            ) : (
              <span className="sub">
                {p.name} promises {p.target_percent} %
              </span>
            )}
          </div>
        ))}
      </div>
      <details className="more">
        <summary>What that is made of</summary>
        {m.leaves.map((l) => (
          <div key={l.service}>
            {l.itself ? `${l.name} itself` : l.name}: {l.target_percent ? `${l.target_percent} % promised` : 'nothing promised'},{' '}
            {l.measured_percent ? `${l.measured_percent} % measured with ${l.outages === 1 ? 'one outage' : `${l.outages} outages`}` : 'not measured'}
          </div>
        ))}
      </details>
    </section>
  )
}

type Values = { depends: Schemas['Dependency'][] }

/** The groups of a service, saved as its next revision. */
function NeedsForm({ service, all, done }: { service: Schemas['DefinedServiceSpec']; all: Schemas['DefinedServiceSpec'][]; done: () => void }) {
  const fresh: Values = { depends: service.spec.depends_on ?? [] }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, service.revision, { draft: `needs/${service.id}` })
  const save = useSaving({
    of: 'services',
    entry: service,
    form,
    kept,
    spec: (v) => ({ ...service.spec, depends_on: v.depends.filter((d) => d.services.length > 0) }),
    names: { 'depends_on[': 'depends' },
    done,
  })
  const others = all.filter((o) => !o.retired && o.id !== service.id)
  return (
    <form className="form narrow-form" aria-label={`What ${service.spec.name} needs`} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={{ path: 'services', id: service.id }} names={{ depends: 'What it needs' }} />
      <DependsFields narrow value={form.watch('depends')} change={(list) => {
          form.clearErrors('depends')
          form.setValue('depends', list, { shouldDirty: true })
        }} others={others} error={form.formState.errors.depends?.message} />
      <FormEnd
        error={form.formState.errors.depends ? undefined : save.error}
        busy={save.isPending}
        save={`Save as revision ${service.revision + 1}`}
        leave={() => {
          kept.done()
          done()
        }}
      />
    </form>
  )
}
