import type { Account } from '../api/client'
import type { Axis } from '../axis/strip'

/** Which period a row's figures are of, where that is not the band itself. */
export function OwnPeriod({ of: a, axis }: { of: Pick<Account, 'fault' | 'period'> | undefined; axis: Axis }) {
  if (!a || a.fault || (Date.parse(a.period.from) === axis.from && Date.parse(a.period.to) === axis.to)) return null
  return (
    <div className="sub" data-own-period>
      {a.period.words}
    </div>
  )
}
