import type { Schemas } from '../api/client'
import { dayStarts, shortMonth } from '../time/format'
import { usePeriod, useShownBand, useZone } from '../time/period'
import { useWidth, type Axis } from './strip'

type Period = Schemas['PeriodView']

export const axisOf = (p: Period): Axis => ({ from: Date.parse(p.from), to: Date.parse(p.to), now: Date.parse(p.now) })

const day = 86_400_000

/** What stands under the axis: days where there is room for each, otherwise months. */
export function ticks(axis: Axis, zone: string, days = dayStarts(axis.from, axis.to, zone)): { at: number; text: string; strong: boolean; faint: boolean }[] {
  if (axis.to - axis.from < 45 * day) return days.map((d) => ({ at: d.at, text: String(d.day), strong: d.day % 7 === 1, faint: d.weekend }))
  return days
    .filter((d, i) => d.day === 1 || i === 0)
    .map((d, i) => {
      const text = shortMonth(d.at, zone, i === 0 || shortMonth(d.at, zone, false) === 'Jan')
      return { at: d.at, text, strong: true, faint: false }
    })
}

/** The band as the header of the axis: its days or months, now, and what is still to come. */
export function Band({ period }: { period: Period | undefined }) {
  const [, setPeriod] = usePeriod()
  const { zone, home, toggle } = useZone()
  const [ref, width] = useWidth<SVGSVGElement>()
  useShownBand(period)
  if (!period) return <header className="band" style={{ height: 84 }} />
  const axis = axisOf(period)
  const scale = width / (axis.to - axis.from)
  const all = dayStarts(axis.from, axis.to, period.timezone)
  const marks = ticks(axis, period.timezone, all)
  const today = all.filter((d) => d.at <= axis.now).length
  const past = axis.now >= axis.to
  const room = width / Math.max(1, marks.length)
  return (
    <header className="band">
      <div className="axis-row">
        <div>
          <h2>{period.words}</h2>
          <div className="sub">
            {past ? `${all.length} days` : `day ${today} of ${all.length}`} · by{' '}
            <select className="link" aria-label="Length of the band" value={period.unit} onChange={(e) => setPeriod(period.units.find((u) => u.unit === e.target.value)?.name)}>
              {period.unit === '' && <option value="">days</option>}
              {period.units.map((u) => (
                <option key={u.unit} value={u.unit}>
                  {u.unit}
                </option>
              ))}
            </select>
          </div>
        </div>
        <svg ref={ref} className="strip" height="40" aria-hidden>
          {!past && <rect x={(axis.now - axis.from) * scale} y="2" width={Math.max(0, (axis.to - axis.now) * scale)} height="20" fill="var(--future)" />}
          <line x1="0" x2={width} y1="22" y2="22" stroke="var(--ground)" />
          {marks.map((d, i) => {
            const left = (d.at - axis.from) * scale
            const right = ((marks[i + 1]?.at ?? axis.to) - axis.from) * scale
            const now = !past && d.at <= axis.now && axis.now < (marks[i + 1]?.at ?? axis.to)
            return (
              <g key={d.at}>
                <line x1={left} x2={left} y1={d.strong ? 10 : 16} y2="22" stroke="var(--ground)" strokeWidth="0.8" />
                {room > 11 && right - left > d.text.length * 5 && (
                  <text x={(left + right) / 2} y="35" textAnchor="middle" fontSize="10" fontWeight={now ? 700 : 400} fill={now ? 'currentColor' : 'var(--mui-palette-text-secondary)'} opacity={d.faint && !now ? 0.6 : 1}>
                    {d.text}
                  </text>
                )}
              </g>
            )
          })}
          <line x1={width - 0.5} x2={width - 0.5} y1="16" y2="22" stroke="var(--ground)" strokeWidth="0.8" />
          {!past && <line x1={(axis.now - axis.from) * scale} x2={(axis.now - axis.from) * scale} y1="0" y2="22" stroke="currentColor" strokeWidth="1.5" />}
        </svg>
        <div className="steps">
          <button type="button" onClick={() => setPeriod(period.before)} title="The one before ( [ )">
            earlier
          </button>
          <button type="button" disabled={!past} onClick={() => setPeriod(undefined)} title="The present month ( . )">
            now
          </button>
          <button type="button" disabled={!past} onClick={() => setPeriod(period.after)} title="The one after ( ] )">
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
