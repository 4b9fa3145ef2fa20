import { useWidth, type Axis } from './strip'
import { ticks } from './ticks'

/** The ticks of an axis with their words, and now. */
export function Ticks({ axis, width, of }: { axis: Axis; width: number; of: ReturnType<typeof ticks> }) {
  const scale = width / (axis.to - axis.from)
  const past = axis.now >= axis.to
  const room = width / Math.max(1, of.length)
  return (
    <>
      {of.map((d, i) => {
        const left = (d.at - axis.from) * scale
        const right = ((of[i + 1]?.at ?? axis.to) - axis.from) * scale
        const now = !past && d.at <= axis.now && axis.now < (of[i + 1]?.at ?? axis.to)
        return (
          <g key={d.at}>
            <line x1={left} x2={left} y1={d.strong ? 10 : 16} y2="22" stroke="var(--ground)" strokeWidth="0.8" />
            {room > 11 && right - left > d.text.length * 5 && (
              <text x={d.point ? Math.min(Math.max(left, 12), width - 12) : (left + right) / 2} y="35" textAnchor="middle" fontSize="10" fontWeight={now ? 700 : 400} fill={now ? 'currentColor' : 'var(--mui-palette-text-secondary)'} fontStyle={d.faint ? 'italic' : undefined}>
                {d.text}
              </text>
            )}
          </g>
        )
      })}
      <line x1={width - 0.5} x2={width - 0.5} y1="16" y2="22" stroke="var(--ground)" strokeWidth="0.8" />
      {!past && <line x1={(axis.now - axis.from) * scale} x2={(axis.now - axis.from) * scale} y1="0" y2="22" stroke="currentColor" strokeWidth="1.5" />}
    </>
  )
}

/** The head of an axis of its own, beside the screen's band. */
export function AxisHead({ axis, zone }: { axis: Axis; zone: string }) {
  const [ref, width] = useWidth<SVGSVGElement>()
  const scale = width / (axis.to - axis.from)
  return (
    <svg ref={ref} className="strip" height="40" aria-hidden>
      {axis.now < axis.to && <rect x={(axis.now - axis.from) * scale} y="2" width={Math.max(0, (axis.to - axis.now) * scale)} height="20" fill="var(--future)" />}
      <line x1="0" x2={width} y1="22" y2="22" stroke="var(--ground)" />
      <Ticks axis={axis} width={width} of={ticks(axis, zone)} />
    </svg>
  )
}
