import type { Account } from '../api/client'
import type { Axis } from '../axis/strip'
import { StandsShort } from './stands'

/** Which period a row's figures are of, where that is not the band itself, of which part of it, and by what they stand. */
export function OwnPeriod({ of: a, axis }: { of: Pick<Account, 'fault' | 'period' | 'part' | 'stands' | 'timezone'> | undefined; axis: Axis }) {
  if (!a || a.fault) return null
  const whole = Date.parse(a.period.from) === axis.from && Date.parse(a.period.to) === axis.to
  return (
    <>
      {(!whole || a.part) && (
        <div className="sub" data-own-period>
          {[!whole && a.period.words, a.part].filter(Boolean).join(', ')}
        </div>
      )}
      <StandsShort of={a.stands} zone={a.timezone} />
    </>
  )
}
