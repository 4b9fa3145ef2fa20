import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { useSearchParams } from 'react-router'
import type { Schemas } from '../api/client'
import { dayStarts, duration } from '../time/format'
import { closer, exactly, momentOf, useShownBand, useSpan, useZone, wider } from '../time/span'
import { useDrag } from './drag'
import { useWidth, type Axis } from './strip'
import { Ticks } from './head'
import { ticks } from './ticks'

const Typed = lazy(() => import('./typed'))

type Span = Schemas['SpanView']

export const axisOf = (s: Span): Axis => ({ from: Date.parse(s.from), to: Date.parse(s.to), now: Date.parse(s.now) })

/** The band as the header of the axis: its days, months or minutes, now, and what is still to come. Dragging along it looks closer. */
export function Band({ span }: { span: Span | undefined }) {
  const [params] = useSearchParams()
  const at = momentOf(params.get('at'), Date.parse(span?.now ?? ''))
  useShownBand(span, at)
  return span ? <Header span={span} at={at} /> : <Box component="header" className="band" sx={{ height: '84px' }} />
}

function Header({ span, at }: { span: Span; at: number | undefined }) {
  const [, setSpan] = useSpan()
  const { zone, home, toggle } = useZone()
  const [ref, width] = useWidth<SVGSVGElement>()
  const [typing, setTyping] = useState(false)
  const axis = axisOf(span)
  const { selection, hang } = useDrag(ref, axis, (from, to) => setSpan(exactly(from, to)))
  const scale = width / (axis.to - axis.from)
  const all = dayStarts(axis.from, axis.to, span.timezone)
  const shown = ticks(axis, span.timezone, all)
  const past = axis.now >= axis.to
  const [near, far] = [closer(span, at), wider(span)]
  const long = axis.to - axis.from
  return (
    <header className="band">
      <div className="axis-row">
        <div>
          <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
            <button type="button" className="plain-button" aria-expanded={typing} title="Type from when to when" onClick={() => setTyping(!typing)}>
              {span.words}
            </button>
          </Typography>
          <div className="sub">
            {span.unit === '' && long < 3 * 86_400_000 ? duration(long) : past ? `${all.length} days` : `day ${all.filter((d) => d.at <= axis.now).length} of ${all.length}`} · by{' '}
            <select className="link" aria-label="Length of the band" value={span.unit} onChange={(e) => setSpan(span.units.find((u) => u.unit === e.target.value)?.name)}>
              {span.unit === '' && <option value="">times</option>}
              {span.units.map((u) => (
                <option key={u.unit} value={u.unit}>
                  {u.unit}
                </option>
              ))}
            </select>
          </div>
        </div>
        <svg ref={ref} className="strip dragged" height="40" aria-hidden {...hang}>
          <rect width={width} height="40" fill="transparent" />
          {!past && <rect x={(axis.now - axis.from) * scale} y="2" width={Math.max(0, (axis.to - axis.now) * scale)} height="20" fill="var(--future)" />}
          <line x1="0" x2={width} y1="22" y2="22" stroke="var(--ground)" />
          <Ticks axis={axis} width={width} of={shown} />
          {selection && <rect x={selection.left} y="0" width={selection.width} height="40" className="selection" />}
        </svg>
        <div className="steps">
          <button type="button" onClick={() => setSpan(span.before)} title="The one before ( [ )">
            earlier
          </button>
          <button type="button" disabled={!past && span.unit === 'month'} onClick={() => setSpan(undefined)} title="The present month ( . )">
            now
          </button>
          <button type="button" disabled={!past} onClick={() => setSpan(span.after)} title="The one after ( ] )">
            later
          </button>
          <br />
          <button type="button" disabled={!near} onClick={() => setSpan(near)} title="Half of it ( + ), or drag along the axis">
            closer
          </button>
          <button type="button" disabled={!far} onClick={() => setSpan(far)} title="More of it ( − )">
            wider
          </button>
          <div className="sub">
            times in{' '}
            <Box component="button" type="button" className="link" sx={{ fontWeight: 400 }} onClick={toggle} title={zone === home ? 'Show times in this browser’s zone' : 'Show times in the organisation’s zone'}>
              {zone}
            </Box>
          </div>
        </div>
      </div>
      {typing && (
        <Suspense fallback={<p className="sub">…</p>}>
          <Typed span={span} done={() => setTyping(false)} />
        </Suspense>
      )}
    </header>
  )
}

