import { useSettled } from '../parts/settled'
import { Trouble } from '../parts/trouble'
import { duration, wallMinute, weekTime } from '../time/format'
import { useSlots } from './queries'

type Props = { services: string[]; lasts: number; window?: string; zone: string; take: (start: string) => void }

/** When work would cost least in the coming two weeks: one click takes a time. */
export default function Slots({ services, lasts, window: id, zone, take }: Props) {
  const slots = useSlots(useSettled(services, services.join(' '), 400), useSettled(lasts, String(lasts), 400), id)
  return (
    <section aria-label="Cheapest times" data-slots>
      <h2>Cheapest {duration(lasts * 1000)} in two weeks</h2>
      <Trouble error={slots.error} />
      {slots.data?.items.map((s) => (
        <div key={s.from} className="entry low" data-slot={s.from}>
          <div className="apart">
            <button type="button" className="link" onClick={() => take(wallMinute(s.from, zone))}>
              {weekTime(s.from, zone)}
            </button>
            <span className={s.clash || s.misses.length ? 'word-down' : s.downtime_ms ? 'word-degraded' : 'word-up'}>{s.clash ? 'clash' : s.downtime_ms ? `costs ${duration(s.downtime_ms)}` : 'costs nothing'}</span>
          </div>
          <div className="sub">{[s.clash?.words, s.misses.length ? `${s.misses.join(' and ')} cannot be met with it` : undefined, ...s.why].filter(Boolean).join(' · ')}</div>
        </div>
      ))}
    </section>
  )
}
