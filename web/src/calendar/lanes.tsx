import Box from '@mui/material/Box'
import { useDrag } from '../axis/drag'
import { AxisHead } from '../axis/head'
import { useWidth, type Axis } from '../axis/strip'
import { duration, weekTime } from '../time/format'
import { useZone } from '../time/span'
import type { Schemas } from '../api/client'
import type { Lane, Work } from './queries'

/** What is being planned, drawn where it would be. */
export type Draft = { services: string[]; spans: { from: number; to: number }[] }

const height = 38
const ground = height - 5

type Props = {
  lanes: Lane[]
  embargoes: Schemas['EmbargoView'][]
  axis: Axis
  chosen?: string
  onChoose: (key: string) => void
  /** Dragging along a lane; undefined: not allowed. */
  onPlan?: (service: string, from: number, to: number) => void
  draft?: Draft
}

export const keyOf = (w: Work) => `${w.window} ${w.at}`

/** Services under one axis: their agreed hours shaded, what is planned outlined. */
export function Lanes({ lanes, embargoes, axis, chosen, onChoose, onPlan, draft }: Props) {
  const { zone } = useZone()
  return (
    <>
      <div className="axis-row column-heads">
        <span>Shaded: agreed hours</span>
        <AxisHead axis={axis} zone={zone} />
        <span>Planned</span>
      </div>
      {lanes.map((l) => (
        <LaneRow key={l.service} lane={l} embargoes={embargoes.filter((e) => e.services.length === 0 || e.services.includes(l.service))} axis={axis} chosen={chosen} onChoose={onChoose} onPlan={onPlan} draft={draft?.services.includes(l.service) ? draft.spans : undefined} />
      ))}
    </>
  )
}

type RowProps = { lane: Lane; draft?: Draft['spans'] } & Omit<Props, 'lanes' | 'draft'>

function LaneRow({ lane, embargoes, axis, chosen, onChoose, onPlan, draft }: RowProps) {
  const [ref, width] = useWidth<SVGSVGElement>()
  const { zone } = useZone()
  const { selection, hang } = useDrag(ref, axis, (from, to) => onPlan?.(lane.service, from, to))
  const scale = width / (axis.to - axis.from)
  const x = (t: string | number) => (Math.min(Math.max(typeof t === 'number' ? t : Date.parse(t), axis.from), axis.to) - axis.from) * scale
  const own = lane.work.filter((w) => w.via.length === 0)
  const costs = lane.work.reduce((ms, w) => ms + w.downtime_ms, 0)
  const planned = own.reduce((ms, w) => ms + Math.min(Date.parse(w.to), axis.to) - Math.max(Date.parse(w.from), axis.from), 0)
  return (
    <div className="entry axis-row" data-calendar-lane={lane.service}>
      <span>
        <div className="name">{lane.name}</div>
        <div className="sub">{lane.promised.length ? lane.promised.join(', ') : lane.kind}</div>
      </span>
      <span className="field">
        <svg ref={ref} className={onPlan ? 'strip planned-on' : 'strip'} height={height} aria-hidden {...(onPlan ? hang : {})}>
          <rect width={width} height={height} fill="transparent" />
          {lane.hours.map((h) => (
            <rect key={h.from} x={x(h.from)} y="9" width={Math.max(0.5, x(h.to) - x(h.from))} height={ground - 9} fill="var(--future)" />
          ))}
          {embargoes.map((e) => (
            <g key={e.id}>
              <rect x={x(e.from)} y="2" width={Math.max(2, x(e.to) - x(e.from))} height="4" fill="none" stroke="var(--down)" strokeWidth="1" />
              <line x1={x(e.from)} x2={x(e.to)} y1="4" y2="4" stroke="var(--down)" strokeDasharray="1.5 2.5" strokeWidth="3" />
            </g>
          ))}
          <line x1="0" x2={width} y1={ground} y2={ground} stroke="var(--ground)" />
          {lane.asked.map((a) => (
            <rect key={`${a.request} ${a.from}`} x={x(a.from)} y="6.5" width={Math.max(6, x(a.to) - x(a.from))} height={ground - 7} fill="none" stroke="var(--degraded-ink)" strokeWidth="1.5" strokeDasharray="1 3" strokeLinecap="round">
              <title>
                {a.name}, asked for, {weekTime(a.from, zone)} to {weekTime(a.to, zone)}
              </title>
            </rect>
          ))}
          {draft?.map((d) => <rect key={d.from} x={x(d.from)} y="3" width={Math.max(4, x(d.to) - x(d.from))} height={ground - 3} fill="var(--mui-palette-primary-main)" opacity="0.85" />)}
          {axis.now > axis.from && axis.now < axis.to && <line x1={x(axis.now)} x2={x(axis.now)} y1="0" y2={height} stroke="currentColor" strokeDasharray="1.5 2.5" />}
          {selection && <rect x={selection.left} y="0" width={selection.width} height={height} className="selection" />}
        </svg>
        {lane.work.map((w) => (
          <Mark key={`${keyOf(w)} ${w.from}`} work={w} axis={axis} left={x(w.from)} wide={x(w.to) - x(w.from)} chosen={chosen === keyOf(w)} onChoose={() => onChoose(keyOf(w))} says={saidOf(w, lane.name, zone)} />
        ))}
      </span>
      <span className="now">
        {own.length > 0 && <b>{duration(planned)}</b>}
        <div className="sub">{costs > 0 ? <span className="word-degraded">{duration(costs)} count</span> : own.length > 0 && lane.promised.length > 0 && own.some((w) => w.service_ms > 0) ? 'granted' : own.length > 0 && own.some((w) => Date.parse(w.to) > axis.now) && lane.promised.length > 0 ? 'outside hours' : ''}</div>
      </span>
    </div>
  )
}

function saidOf(w: Work, lane: string, zone: string): string {
  const when = `${weekTime(w.from, zone)} to ${weekTime(w.to, zone)}`
  const via = w.via.length ? `, which needs ${w.via.join(' and ')},` : ''
  const cost = w.downtime_ms > 0 ? `; ${duration(w.downtime_ms)} are not granted` : ''
  return `${w.name} on ${lane}${via} ${when}${w.type === 'emergency' ? ', emergency work' : ''}${w.changed ? ', moved or of another length' : ''}${cost}`
}

/** All that is planned, in order of time. */
export function InOrder({ lanes, chosen, onChoose, now }: { lanes: Lane[]; chosen: string; onChoose: (key: string) => void; now: number }) {
  const { zone } = useZone()
  const all = new Map<string, Work & { costs: number }>()
  for (const w of lanes.flatMap((l) => l.work)) {
    const key = `${keyOf(w)} ${w.from}`
    all.set(key, { ...w, costs: (all.get(key)?.costs ?? 0) + w.downtime_ms })
  }
  const list = [...all.values()].sort((a, b) => Date.parse(a.from) - Date.parse(b.from))
  if (list.length === 0) return null
  return (
    <section aria-label="In order of time">
      <h2 className="group">
        In order of time
      </h2>
      {list.map((w) => (
        <div key={`${keyOf(w)} ${w.from}`} className={chosen === keyOf(w) ? 'entry low open' : 'entry low'} data-planned={keyOf(w)}>
          <span>
            {weekTime(w.from, zone)}, {duration(Date.parse(w.to) - Date.parse(w.from))}
          </span>
          <span>
            <button type="button" className="link" aria-pressed={chosen === keyOf(w)} onClick={() => onChoose(keyOf(w))}>
              {w.name}
            </button>{' '}
            <span className="sub">
              {w.services.map((s) => s.name).join(', ')}
              {w.type === 'emergency' && ' · emergency'}
              {w.changed && ' · otherwise than its rule'}
              {w.reference && ` · ${w.reference}`}
            </span>
          </span>
          <span className="now">{Date.parse(w.to) <= now ? <span className="sub">over</span> : Date.parse(w.from) <= now ? <b className="word-maintenance">under way</b> : w.costs > 0 ? <span className="word-degraded">may cost {duration(w.costs)}</span> : <span className="word-up">costs nothing</span>}</span>
        </div>
      ))}
    </section>
  )
}

/** One piece of work: solid once it runs or is over, dashed while it is to come, thin where the service only goes down with it. */
function Mark({ work: w, axis, left, wide, chosen, onChoose, says }: { work: Work; axis: Axis; left: number; wide: number; chosen: boolean; onChoose: () => void; says: string }) {
  const width = Math.max(6, wide)
  const via = w.via.length > 0
  const begun = Date.parse(w.from) <= axis.now
  const colour = w.downtime_ms > 0 ? 'var(--degraded-ink)' : 'var(--maintenance)'
  return (
    <Box
      component="button"
      type="button"
      sx={{ position: 'absolute', p: 0, borderRadius: '1px', cursor: 'pointer' }}
      data-work={keyOf(w)}
      title={says}
      aria-label={says}
      tabIndex={-1} // the list below has them all
      onClick={onChoose}
      style={{
        left: wide < 6 ? left - (6 - wide) / 2 : left,
        width,
        top: via ? 20 : w.type === 'emergency' ? 0 : 6,
        height: via ? ground - 20 : w.type === 'emergency' ? ground : ground - 6,
        border: `1.5px ${begun ? 'solid' : 'dashed'} ${colour}`,
        borderTopWidth: w.type === 'emergency' ? 5 : 1.5,
        background: chosen ? colour : via ? 'none' : `color-mix(in srgb, ${colour} ${begun ? 32 : 12}%, transparent)`,
      }}
    />
  )
}
