import type { Schemas } from '../api/client'
import { percent, shortTime } from '../time/format'

type Props = { of: Schemas['StandsView'] | undefined; zone: string }

/** By what figures stand that were published or frozen, and how those of today are otherwise. */
export function Stands({ of, zone }: Props) {
  if (!of) return null
  return (
    <div className="sub" data-stands={of.how}>
      as {of.how} {shortTime(of.at, zone)}
      {of.number ? `, number ${of.number}` : ''}
      {of.differs.length > 0 && (
        <>
          . <b>Today it would say otherwise:</b> {of.differs.join(' ')}
        </>
      )}
    </div>
  )
}

/** The same where there is room for a few words. */
export function StandsShort({ of, zone }: Props) {
  if (!of) return null
  return (
    <div className="sub" data-stands={of.how}>
      as {of.how} {shortTime(of.at, zone)}
      {of.differs.length > 0 && (of.today ? `; today it would be ${percent(of.today.availability_percent)}` : '; otherwise today')}
    </div>
  )
}
