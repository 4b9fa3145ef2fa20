import type { Account } from '../api/client'
import type { Axis } from '../axis/strip'

/** Which period a row's figures are of, where that is not the band itself, and of which part of it. */
export function OwnPeriod({ of: a, axis }: { of: Pick<Account, 'fault' | 'period' | 'part'> | undefined; axis: Axis }) {
  if (!a || a.fault) return null
  const whole = Date.parse(a.period.from) === axis.from && Date.parse(a.period.to) === axis.to
  if (whole && !a.part) return null
  return (
    <div className="sub" data-own-period>
      {[!whole && a.period.words, a.part].filter(Boolean).join(', ')}
    </div>
  )
}
