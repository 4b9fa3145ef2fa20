import { useLayoutEffect, useMemo, useRef, useState } from 'react'
import type { Interval, Schemas } from '../api/client'
import { duration, fullTime, shortDay, shortTime } from '../time/format'
import { exactly, useSpan, useZone } from '../time/span'
import { useDrag } from './drag'
import { neighbour } from './stops'
import { classes, columns, pieces, written, type Class, type Run } from './columns'

/** The time that an axis shows. */
export type Axis = { from: number; to: number; now: number }

const full = 26
const heights: Record<Class, number> = { outside: 0, up: 7, degraded: 14, down: full, tolerated: full, maintenance: full, upstream: full, excused: full, unmeasured: 7 }

/** Measures an element's width as it changes. */
export function useWidth<T extends Element>(): [React.RefObject<T | null>, number] {
  const ref = useRef<T>(null)
  const [width, setWidth] = useState(0)
  useLayoutEffect(() => {
    const el = ref.current
    if (!el) return
    const read = () => setWidth(Math.round(el.getBoundingClientRect().width))
    read()
    const watch = new ResizeObserver(read)
    watch.observe(el)
    return () => watch.disconnect()
  }, [])
  return [ref, width]
}

/** The hatches of the classes that are outlined; once on a page. */
export function Hatches() {
  const hatch = (id: string, colour: string, angle: number, gap: number) => (
    <pattern id={`hatch-${id}`} width={gap} height={gap} patternUnits="userSpaceOnUse" patternTransform={`rotate(${angle})`}>
      <line x1="0" y1="0" x2="0" y2={gap} stroke={colour} strokeWidth="1.4" />
    </pattern>
  )
  return (
    <svg width="0" height="0" className="patterns" aria-hidden>
      <defs>
        {hatch('maintenance', 'var(--maintenance)', 45, 4)}
        {hatch('upstream', 'var(--upstream)', -45, 4)}
        {hatch('excused', 'var(--excused)', 90, 4)}
        {hatch('tolerated', 'var(--tolerated)', 0, 4)}
        <pattern id="hatch-degraded" width="3" height="3" patternUnits="userSpaceOnUse">
          <rect width="3" height="3" fill="var(--degraded)" />
          <circle cx="1.5" cy="1.5" r="0.7" fill="var(--mui-palette-background-default)" />
        </pattern>
      </defs>
    </svg>
  )
}

/** Draws what one class looks like: its height says which it is, without colour too. */
function Block({ of, x, width, share, ground }: { of: Class; x: number; width: number; share: number; ground: number }) {
  const h = heights[of]
  const y = ground - h
  // A brief class in a column is drawn lighter, and never so light that it is lost.
  const opacity = share >= 0.995 ? 1 : 0.72 + 0.28 * share
  switch (of) {
    case 'outside':
      return null
    case 'up':
      return <rect x={x} y={y} width={width} height={h} fill="var(--up)" />
    case 'degraded':
      return <rect x={x} y={y} width={Math.max(1.5, width)} height={h} fill={width > 3 ? 'url(#hatch-degraded)' : 'var(--degraded)'} opacity={opacity} />
    case 'down':
      return <rect x={x} y={y} width={Math.max(2, width)} height={h} fill="var(--down)" opacity={opacity} />
    case 'unmeasured':
      return width < 3 ? (
        <line x1={x} x2={x + width} y1={y} y2={y} stroke="var(--unmeasured)" />
      ) : (
        <rect x={x + 0.5} y={y + 0.5} width={width - 1} height={h - 1} fill="none" stroke="var(--unmeasured)" strokeDasharray="2.5 2" />
      )
    default:
      return <rect x={x + 0.5} y={y + 0.5} width={Math.max(1.5, width - 1)} height={h - 1} fill={`url(#hatch-${of})`} stroke={`var(--${of})`} opacity={opacity} />
  }
}

/** In a mixed column the low classes lie beneath and the tall ones stand before them. */
const order: Class[] = ['up', 'unmeasured', 'degraded', 'maintenance', 'upstream', 'excused', 'tolerated', 'down']

function drawn(runs: Run[]): { of: Class; x: number; width: number; share: number }[] {
  const out: { of: Class; x: number; width: number; share: number }[] = []
  for (const of of order) {
    let open: { of: Class; x: number; width: number; share: number } | undefined
    for (const run of runs) {
      const share = run.shares.find(([c]) => c === of)?.[1] ?? 0
      if (share <= 0 || (of === 'unmeasured' && share < 0.5)) {
        open = undefined
        continue
      }
      if (open && open.x + open.width === run.x) {
        open.share = Math.max(open.share, share)
        open.width += run.width
      } else {
        open = { of, x: run.x, width: run.width, share }
        out.push(open)
      }
    }
  }
  return out
}

type StripProps = {
  intervals?: Interval[]
  /** In place of intervals: their columns as the server writes them over the axis, and the time of each class. */
  columns?: string
  total?: Partial<Record<string, number>>
  axis: Axis
  label: string
  planned?: { from: string; to: string }[]
  at?: number
  onPick?: (at: number) => void
  thin?: boolean
  /** It stands on the screen's own axis: dragging along it looks closer. */
  zooms?: boolean
}

const none: Interval[] = []

/** A stretch of time as strata. Picking a moment with the pointer or the arrow keys calls onPick. */
export function Strip({ intervals = none, columns: text, total, axis, label, planned, at, onPick, thin, zooms }: StripProps) {
  const [ref, width] = useWidth<SVGSVGElement>()
  const [, setSpan] = useSpan()
  const { selection, hang } = useDrag(ref, axis, (from, to) => setSpan(exactly(from, to)))
  const shown = useMemo(() => (text === undefined ? pieces(intervals) : written(text, axis.from, axis.to)), [text, intervals, axis.from, axis.to])
  const blocks = useMemo(() => (width > 0 ? drawn(columns(shown, axis.from, axis.to, width)) : []), [shown, axis.from, axis.to, width])
  const height = thin ? 22 : full + 4
  const ground = height - 1.5
  const scale = width / (axis.to - axis.from)
  const x = (t: number) => (t - axis.from) * scale
  const picked = (clientX: number) => {
    const box = ref.current?.getBoundingClientRect()
    if (!box || !onPick) return
    const t = axis.from + ((clientX - box.left) / box.width) * (axis.to - axis.from)
    onPick(Math.min(Math.max(t, axis.from), Math.min(axis.to, axis.now) - 1))
  }
  const { zone } = useZone()
  const here = at ?? Math.min(axis.now, axis.to) - 1
  const last = Math.min(axis.to, axis.now) - 1
  const within = (t: number) => Math.min(Math.max(t, axis.from), last)
  const edges = () => intervals.map((i) => Date.parse(i.from)).filter((t) => t >= axis.from)
  const tenth = (axis.to - axis.from) / 10
  const goes: Record<string, () => number | undefined> = {
    ArrowRight: () => edges().find((t) => t > here),
    ArrowLeft: () => edges().filter((t) => t < here).pop(),
    PageUp: () => within(here + tenth),
    PageDown: () => within(here - tenth),
    Home: () => axis.from,
    End: () => last,
  }
  const keys = (e: React.KeyboardEvent<SVGSVGElement>) => {
    if (!onPick) return
    if (e.key === 'ArrowUp' || e.key === 'ArrowDown') {
      const next = neighbour(e.currentTarget, e.key === 'ArrowDown' ? 1 : -1)
      if (!next) return
      e.preventDefault()
      next.focus()
      return
    }
    const go = goes[e.key]
    if (!go) return
    e.preventDefault()
    const next = go()
    if (next !== undefined) onPick(next)
  }
  const told = onPick && intervals.find((i) => Date.parse(i.from) <= here && here < Date.parse(i.to))
  return (
    <svg
      ref={ref}
      className="strip"
      height={height}
      role={onPick ? 'slider' : 'img'}
      data-strip={onPick && label}
      aria-label={`${label}, ${spanned(axis, zone)}: ${summary(total ?? totals(intervals))}`}
      aria-valuenow={onPick ? Math.round(here) : undefined}
      aria-valuemin={onPick ? axis.from : undefined}
      aria-valuemax={onPick ? axis.to : undefined}
      aria-valuetext={onPick ? `${told ? (told.class === 'unmeasured' ? 'not measured' : told.class) : 'nothing'}, ${fullTime(here, zone)}, ${zone}` : undefined}
      tabIndex={onPick ? 0 : undefined}
      style={onPick && { cursor: 'crosshair' }}
      onClick={(e) => picked(e.clientX)}
      onKeyDown={keys}
      {...(zooms ? hang : {})}
    >
      {(onPick || zooms) && <rect width={width} height={height} fill="transparent" />}
      <g transform={thin ? `translate(0 ${ground * (1 - 0.75)}) scale(1 0.75)` : undefined}>
        {blocks.map((b, i) => (
          <Block key={i} of={b.of} x={b.x} width={b.width} share={b.share} ground={ground} />
        ))}
        {planned?.filter((p) => Date.parse(p.to) > axis.from && Date.parse(p.from) < axis.to).map((p) => (
          <rect
            key={p.from}
            x={x(Date.parse(p.from))}
            y={ground - full}
            width={Math.max(3, x(Date.parse(p.to)) - x(Date.parse(p.from)))}
            height={full}
            fill="none"
            stroke="var(--maintenance)"
            strokeDasharray="2 2"
          />
        ))}
      </g>
      <line x1="0" x2={width} y1={ground} y2={ground} stroke="var(--ground)" />
      {axis.now < axis.to && axis.now > axis.from && <line x1={x(axis.now)} x2={x(axis.now)} y1="0" y2={height} stroke="var(--ground)" strokeDasharray="1 2.5" />}
      {at !== undefined && <line x1={x(at)} x2={x(at)} y1="-2" y2={height + 2} stroke="var(--mui-palette-primary-main)" strokeWidth="1.5" />}
      {selection && <rect x={selection.left} y="0" width={selection.width} height={height} className="selection" />}
    </svg>
  )
}

/** What an axis shows, in words, and on whose clocks. */
const spanned = (axis: Axis, zone: string) => (axis.to - axis.from < 3 * 86_400_000 ? `${shortTime(axis.from, zone)} to ${shortTime(axis.to, zone)}` : `${shortDay(axis.from, zone)} to ${shortDay(axis.to - 1, zone)}`) + ` (${zone})`

/** What a strip says, in words: the time of each class that is not plain up. */
function summary(total: Partial<Record<string, number>>): string {
  const parts = classes.filter((c) => c !== 'outside' && total[c]).map((c) => `${c === 'unmeasured' ? 'not measured' : c} ${duration(total[c] ?? 0)}`)
  return parts.join(', ') || 'nothing measured'
}

/** The time of each class among the totals of an account. */
export function classTimes(total: Schemas['Totals']): Partial<Record<string, number>> {
  return Object.fromEntries(classes.map((c) => [c, total[c]]))
}

function totals(intervals: Interval[]): Partial<Record<string, number>> {
  const total: Partial<Record<string, number>> = {}
  for (const i of intervals) total[i.class] = (total[i.class] ?? 0) + Date.parse(i.to) - Date.parse(i.from)
  return total
}

/** The key to the strata. */
export function Legend({ only }: { only?: Class[] }) {
  const shown = only ?? (['up', 'degraded', 'down', 'maintenance', 'upstream', 'unmeasured'] as Class[])
  const words: Partial<Record<Class, string>> = { upstream: 'upstream, excused', unmeasured: 'not measured' }
  return (
    <ul className="legend" aria-label="Key">
      {shown.map((c) => (
        <li key={c}>
          <svg width="14" height={full} aria-hidden>
            <Block of={c} x={0} width={c === 'down' ? 5 : 14} share={1} ground={full - 1} />
            <line x1="0" x2="14" y1={full - 1} y2={full - 1} stroke="var(--ground)" />
          </svg>
          {words[c] ?? c}
        </li>
      ))}
      <li>
        <svg width="14" height={full} aria-hidden>
          <rect x="0.5" y="0.5" width="10" height={full - 2} fill="none" stroke="var(--maintenance)" strokeDasharray="2 2" />
        </svg>
        planned
      </li>
    </ul>
  )
}
