import { Pick } from '../parts/pick'
import { usePlans } from './queries'

/** What a notice plan is called. */
export function usePlanName(): (id: string | undefined) => string {
  const plans = usePlans().data
  return (id) => (id ? (plans?.find((p) => p.id === id)?.spec.name ?? id) : '')
}

type Props = { label: string; value: string; change: (id: string) => void; error?: string; help?: string }

/** Chooses a notice plan. */
export function PlanPick({ label, value, change, error, help }: Props) {
  const plans = usePlans().data ?? []
  return <Pick label={label} value={value} change={change} error={error} help={help ?? (value ? undefined : 'None: only plans that are for everything')} of={plans.filter((p) => !p.retired || p.id === value).map((p) => ({ id: p.id, name: p.spec.name }))} />
}
