import type { Schemas } from '../api/client'
import { dayStarts, monthName, stepMonth } from '../time/format'
import { usePeriod, useZone } from '../time/period'
import { useWidth, type Axis } from './strip'

type Period = Schemas['PeriodView']

export const axisOf = (p: Period): Axis => ({ from: Date.parse(p.from), to: Date.parse(p.to), now: Date.parse(p.now) })

/** The period as the header of the axis: its days, now, and what is still to come. */
export function Band({ period }: { period: Period | undefined }) {
  const [, setPeriod] = usePeriod()
  const { zone, home, toggle } = useZone()
  const [ref, width] = useWidth<SVGSVGElement>()
  if (!period) return <header className="band" style={{ height: 84 }} />
  const axis = axisOf(period)
  const scale = width / (axis.to - axis.from)
  const days = dayStarts(axis.from, axis.to, period.timezone)
  const today = days.filter((d) => d.at <= axis.now).length
  const past = axis.now >= axis.to
  return (
    <header className="band">
      <div className="axis-row">
        <div>
          <h2>{monthName(period.name)}</h2>
          <div className="sub">{past ? `${days.length} days` : `day ${today} of ${days.length}`}</div>
        </div>
        <svg ref={ref} className="strip" height="40" aria-hidden>
          {!past && <rect x={(axis.now - axis.from) * scale} y="2" width={Math.max(0, (axis.to - axis.now) * scale)} height="20" fill="var(--future)" />}
          <line x1="0" x2={width} y1="22" y2="22" stroke="var(--ground)" />
          {days.map((d, i) => {
            const left = (d.at - axis.from) * scale
            const right = ((days[i + 1]?.at ?? axis.to) - axis.from) * scale
            const now = !past && i + 1 === today
            return (
              <g key={d.at}>
                <line x1={left} x2={left} y1={d.day % 7 === 1 ? 10 : 16} y2="22" stroke="var(--ground)" strokeWidth="0.8" />
                {width > 380 && (
                  <text x={(left + right) / 2} y="35" textAnchor="middle" fontSize="10" fontWeight={now ? 700 : 400} fill={now ? 'currentColor' : 'var(--mui-palette-text-secondary)'} opacity={d.weekend && !now ? 0.6 : 1}>
                    {d.day}
                  </text>
                )}
              </g>
            )
          })}
          <line x1={width - 0.5} x2={width - 0.5} y1="16" y2="22" stroke="var(--ground)" strokeWidth="0.8" />
          {!past && <line x1={(axis.now - axis.from) * scale} x2={(axis.now - axis.from) * scale} y1="0" y2="22" stroke="currentColor" strokeWidth="1.5" />}
        </svg>
        <div className="steps">
          <button type="button" onClick={() => setPeriod(stepMonth(period.name, -1))} title="The month before ( [ )">
            earlier
          </button>
          <button type="button" disabled={!past} onClick={() => setPeriod(undefined)} title="The present month ( . )">
            now
          </button>
          <button type="button" disabled={!past} onClick={() => setPeriod(stepMonth(period.name, 1))} title="The month after ( ] )">
            later
          </button>
          <div className="sub">
            times in{' '}
            <button type="button" className="link" style={{ fontWeight: 400 }} onClick={toggle} title={zone === home ? 'Show times in this browser’s zone' : 'Show times in the organisation’s zone'}>
              {zone}
            </button>
          </div>
        </div>
      </div>
    </header>
  )
}
