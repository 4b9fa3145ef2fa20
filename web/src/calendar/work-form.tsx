import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Suspense, lazy, useEffect } from 'react'
import { Controller } from 'react-hook-form'
import { useNavigate, useSearchParams } from 'react-router'
import { api, ask, type Schemas } from '../api/client'
import { useServices } from '../api/queries'
import { keyOf, recipientOf } from '../notices/words'
import { Day, Minute, noDate, wholeDay } from '../parts/day'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { ServicesPick } from '../parts/services-pick'
import { useSettled } from '../parts/settled'
import { Awaited } from '../parts/trouble'
import { duration, minuteIn, minutesOf, secondsIn, wallIn, wantsMinutes, weekTime } from '../time/format'
import { useZone } from '../time/span'
import { useGo } from './go'
import { Clashes, Effects } from './effects'
import type { Draft } from './lanes'
import { useWindows, useWork, type WindowSpec } from './queries'
import { days, noRule, nths, read, repeats, written, type RuleValues } from './rule'

const More = lazy(() => import('./work-more'))
const Slots = lazy(() => import('./slots'))
const Revisions = lazy(() => import('../parts/revisions').then((m) => ({ default: m.Revisions })))

export type Values = { name: string; type: string; tell: string[]; pause: string[]; services: string[]; start: string; lasts: string; timezone: string; exdates: string[]; changes: Schemas['Occurrence'][]; reference: string; note: string; reason: string; imported?: WindowSpec['imported'] } & RuleValues

function specOf(v: Values, was?: WindowSpec): WindowSpec {
  const rule = written(v)
  return {
    name: v.name,
    type: v.type === 'emergency' ? 'emergency' : undefined,
    services: v.services,
    start: wallIn(v.start, was?.start),
    timezone: v.timezone,
    duration_s: secondsIn(v.lasts),
    rrule: rule || undefined,
    exdates: rule && v.exdates.length ? v.exdates : undefined,
    changes: rule && v.changes.length ? v.changes : undefined,
    reference: v.reference || undefined,
    note: v.note || undefined,
    tell: v.tell.length ? v.tell.map(recipientOf) : undefined,
    pause: v.pause.length ? v.pause : undefined,
    imported: v.imported,
  }
}

type Props = { id?: string; show: (d: Draft | undefined) => void }

/** Plans work, and says what it costs while it is planned. */
export default function WorkForm({ id, show }: Props) {
  const windows = useWindows()
  const entry = windows.data?.find((w) => w.id === id)
  if (id && !windows.data) return <Awaited error={windows.error} />
  if (id && !entry) return <p className="trouble">There is no such window.</p>
  return <Form entry={entry} show={show} />
}

function Form({ entry, show }: { entry?: Schemas['DefinedWindowSpec']; show: Props['show'] }) {
  const { home, zone } = useZone()
  const [params] = useSearchParams()
  const services = useServices()
  const navigate = useNavigate()
  const go = useGo()
  const spec = entry?.spec
  const fresh: Values = {
    name: spec?.name ?? '',
    type: spec?.type ?? 'planned',
    services: spec?.services ?? (params.get('service') ? [params.get('service') ?? ''] : []),
    start: spec ? minuteIn(spec.start) : (params.get('start') ?? ''),
    lasts: spec ? minutesOf(spec.duration_s) : (params.get('lasts') ?? '60'),
    timezone: spec?.timezone ?? home,
    exdates: spec?.exdates ?? [],
    changes: spec?.changes ?? [],
    reference: spec?.reference ?? '',
    note: spec?.note ?? '',
    tell: (spec?.tell ?? []).map(keyOf),
    pause: spec?.pause ?? [],
    imported: spec?.imported,
    reason: '',
    ...(spec ? read(spec.rrule) : noRule),
  }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, entry?.revision ?? 0, { draft: `windows/${entry?.id ?? 'new'}` })
  const v = form.watch()
  const whole = v.services.length > 0 && v.start !== '' && v.start !== noDate && v.until !== noDate && secondsIn(v.lasts) > 0
  const asked = whole ? { id: entry?.id, spec: { ...specOf(v, spec), name: v.name.trim() || 'Work' } } : undefined
  const settled = useSettled(asked, JSON.stringify(asked), 400)
  const work = useWork(settled)
  const view = settled ? work.data : undefined
  const asks = (view?.asks.length ?? 0) > 0
  const save = useSaving<Values, WindowSpec>({
    of: 'windows',
    entry,
    form,
    kept,
    spec: (v) => specOf(v, spec),
    reason: (v) => v.reason || undefined,
    names: { rrule: form.getValues('repeat') === 'rule' ? 'rule' : 'repeat', duration_s: 'lasts', 'services[': 'services', 'changes[': 'changes', 'exdates[': 'exdates', 'tell[': 'tell', 'pause[': 'pause' },
    by: (of, why) => (asks ? ask(api.POST('/api/v1/work-requests', { body: { window: entry?.id, revision: entry?.revision, spec: of, reason: why } })).then((r) => `request ${r.request}`) : undefined),
    done: (made) => navigate(go('/calendar', made.startsWith('request ') ? { request: made.slice('request '.length) } : { work: `${made} ${wallIn(form.getValues('start'), spec?.start)}` })),
  })
  const lasts = secondsIn(v.lasts) || 0
  const drawn = JSON.stringify(view?.occurrences ?? [])
  useEffect(() => {
    show({ services: v.services, spans: (JSON.parse(drawn) as Schemas['Coming'][]).map((o) => ({ from: Date.parse(o.from), to: Date.parse(o.to) })) })
    return () => show(undefined)
    // What is drawn follows the answer.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [drawn, v.services.join(' ')])
  if (!services.data) return <Awaited error={services.error} />
  const err = form.formState.errors
  const add = (ids: string[]) => form.setValue('services', [...new Set([...v.services, ...ids])], { shouldDirty: true, shouldTouch: true })
  const wrongWork = work.error && settled ? work.error : undefined
  return (
    <form className="form narrow-form" aria-label={entry ? 'Edit the window' : 'Plan work'} onSubmit={(e) => void form.handleSubmit((x) => save.mutate(x))(e)}>
      <h2>{entry ? `Edit ${spec?.name ?? ''}` : 'Plan work'}</h2>
      <KeptNote kept={kept} of={entry && { path: 'windows', id: entry.id }} />
      <TextField label="Name" required autoFocus={!entry} error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <Controller
        control={form.control}
        name="services"
        rules={{ validate: (list) => list.length > 0 || 'Choose what is worked on' }}
        render={({ field }) => (
          <ServicesPick label="On" value={field.value} change={field.onChange} ref={field.ref} error={err.services?.message} />
        )}
      />
      {view && view.also.length > 0 && (
        <div className="sub" data-also>
          {view.also.map((s) => s.name).join(', ')} {view.also.length === 1 ? 'goes' : 'go'} down with it.{' '}
          <button type="button" className="link" onClick={() => add(view.also.map((s) => s.id))}>
            Name {view.also.length === 1 ? 'it' : 'them'} too
          </button>
        </div>
      )}
      <div className="side start-lasts">
        <Controller control={form.control} name="start" rules={{ validate: (x) => (x !== '' && x !== noDate) || 'Say when it starts' }} render={({ field }) => <Minute label={v.repeat === 'once' ? 'Starts' : 'First starts'} value={field.value} change={field.onChange} zone={v.timezone} required error={err.start?.message} help={v.timezone} field={field} />} />
        <TextField label="Lasts, min" required error={Boolean(err.lasts)} helperText={err.lasts?.message} {...form.register('lasts', { validate: (x) => secondsIn(x) > 0 || wantsMinutes })} />
      </div>
      <Controller
        control={form.control}
        name="repeat"
        render={({ field }) => (
          <TextField select label="Repeats" {...field} error={Boolean(err.repeat)} helperText={err.repeat?.message}>
            {Object.entries(repeats).map(([k, words]) => (
              <MenuItem key={k} value={k}>
                {words}
              </MenuItem>
            ))}
          </TextField>
        )}
      />
      {v.repeat === 'rule' && <TextField label="Rule (RFC 5545)" placeholder="FREQ=MONTHLY;BYDAY=-1FR" error={Boolean(err.rule)} helperText={err.rule?.message} {...form.register('rule')} />}
      {['daily', 'weekly', 'monthly'].includes(v.repeat) && (
        <div className="side every-until">
          <TextField label="Every" error={Boolean(err.every)} helperText={err.every?.message ?? { daily: 'days', weekly: 'weeks', monthly: 'months' }[v.repeat as 'daily']} {...form.register('every', { validate: (x) => /^\d*$/.test(x.trim()) || 'A number' })} />
          <Controller control={form.control} name="until" rules={{ validate: wholeDay }} render={({ field }) => <Day label="Last day" value={field.value} change={field.onChange} zone={v.timezone} error={err.until?.message} help="empty: no end" field={field} />} />
        </div>
      )}
      {v.repeat === 'weekly' && (
        <Controller
          control={form.control}
          name="on"
          render={({ field }) => (
            <TextField select label="On" {...field} helperText="none: the day it first starts" slotProps={{ select: { multiple: true, renderValue: (x) => (x as string[]).map((d) => days[d]?.slice(0, 3)).join(', ') } }}>
              {Object.entries(days).map(([d, name]) => (
                <MenuItem key={d} value={d}>
                  {name}
                </MenuItem>
              ))}
            </TextField>
          )}
        />
      )}
      {v.repeat === 'monthly' && (
        <div className="side halves">
          {(['nth', 'day'] as const).map((name) => (
            <Controller
              key={name}
              control={form.control}
              name={name}
              render={({ field }) => (
                <TextField select label={name === 'nth' ? 'On the' : 'Day'} {...field}>
                  {Object.entries(name === 'nth' ? nths : days).map(([k, words]) => (
                    <MenuItem key={k} value={k}>
                      {words}
                    </MenuItem>
                  ))}
                </TextField>
              )}
            />
          ))}
        </div>
      )}
      {(v.exdates.length > 0 || v.changes.length > 0) && v.repeat !== 'once' && (
        <div className="sub" data-otherwise>
          {v.exdates.map((x) => (
            <div key={x}>
              {x.slice(0, 16).replace('T', ' ')} skipped{' '}
              <button type="button" className="link" onClick={() => form.setValue('exdates', v.exdates.filter((y) => y !== x), { shouldDirty: true })}>
                put it back
              </button>
            </div>
          ))}
          {v.changes.map((c) => (
            <div key={c.at}>
              {c.at.slice(0, 16).replace('T', ' ')} {c.start ? `at ${c.start.slice(0, 16).replace('T', ' ')}` : ''} {c.duration_s ? `for ${duration(c.duration_s * 1000)}` : ''}{' '}
              <button type="button" className="link" onClick={() => form.setValue('changes', v.changes.filter((y) => y.at !== c.at), { shouldDirty: true })}>
                as the rule says
              </button>
            </div>
          ))}
          {err.changes && <span className="word-down">{err.changes.message}</span>}
        </div>
      )}
      <details className="more">
        <summary>Whom to tell, {v.type === 'emergency' ? 'emergency work' : 'type'}, change reference, note{v.pause.length > 0 && ', what pauses'}</summary>
        <Suspense fallback={null}>
          <More form={form} />
        </Suspense>
      </details>
      {(err.reason || v.reason || asks || view?.clashes.some((c) => c.service === undefined)) && <TextField label={asks ? 'Why, for who approves it' : 'Why it has to be then'} error={Boolean(err.reason)} helperText={err.reason?.message} {...form.register('reason')} />}
      <section aria-label="What it costs" aria-live="polite">
        <h2>What it costs</h2>
        {!whole && <p className="sub">Say on what, when and for how long.</p>}
        {whole && wrongWork && !save.error && <p className="sub word-down">{wrongWork instanceof Error ? wrongWork.message : ''}</p>}
        {whole && view && !wrongWork && (
          <>
            <p className="sub" data-when>
              {view.words}; next {view.occurrences[0] ? weekTime(view.occurrences[0].from, zone) : 'never'}. It counts as announced from when it is {asks ? 'approved' : 'saved'}.
            </p>
            {asks && (
              <p className="sub" data-asks>
                <b>{view.asks.map((s) => s.name).join(', ')}</b> {view.asks.length === 1 ? 'asks' : 'ask'} a second person, who approves it first.
              </p>
            )}
            <Clashes of={view.clashes} />
            <Effects view={view} />
          </>
        )}
      </section>
      {/* It stays where it is while what is said above it changes: nothing jumps under the pointer. */}
      <Box sx={{ position: 'sticky', bottom: 0, zIndex: 1, bgcolor: 'background.default', py: 1 }}>
        <FormEnd
          error={save.error}
          busy={save.isPending}
          save={asks ? 'Ask for approval' : entry ? `Save as revision ${entry.revision + 1}` : 'Announce and plan'}
          leave={() => {
            kept.done()
            void navigate(go('/calendar', {}))
          }}
        />
      </Box>
      {v.services.length > 0 && lasts > 0 && (
        <Suspense fallback={null}>
          <Slots services={v.services} lasts={lasts} window={entry?.id} zone={v.timezone} take={(start) => form.setValue('start', start, { shouldDirty: true, shouldValidate: true })} />
        </Suspense>
      )}
      {entry && (
        <Suspense fallback={null}>
          <Revisions path="windows" id={entry.id} />
        </Suspense>
      )}
    </form>
  )
}
