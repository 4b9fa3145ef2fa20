import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { Link } from 'react-router'
import { useMayDefineForAll, useParties, useSelected, useServices } from '../api/queries'
import { useRetiring } from '../parts/retire'
import { Awaited, Trouble } from '../parts/trouble'
import { useKeep } from '../time/span'
import { NoticesNav } from './head'
import { useReceivers } from './receivers'
import { usePlans, type Plan } from './queries'
import { sentences } from './words'
import './notices.css'

/** All notice plans, each in sentences, with what follows it. */
export function PlansPage() {
  const plans = usePlans()
  const keep = useKeep()
  const may = useMayDefineForAll()
  const retiring = useRetiring('notice-plans')
  if (!plans.data) return <Awaited error={plans.error} />
  return (
    <>
      <NoticesNav />
      <div className="head">
        <Typography variant="h1">Notice plans</Typography>
        <div className="actions">
          {may && (
            <Button component={Link} to={keep('/notices/plans/new')} variant={plans.data.length ? 'outlined' : 'contained'}>
              Add a notice plan
            </Button>
          )}
        </div>
      </div>
      <p className="lead">Who is told of an incident, how and when. A service follows the plan of its team, or its own, or both.</p>
      <Trouble error={plans.error ?? retiring.error} />
      {plans.data.length === 0 && <div className="empty">There is no plan yet, so nobody is told of anything. A plan begins with one step: whom to tell at once.</div>}
      {plans.data.map((p) => (
        <Row key={p.id} plan={p} may={may} retiring={retiring} />
      ))}
    </>
  )
}

function Row({ plan, may, retiring }: { plan: Plan; may: boolean; retiring: ReturnType<typeof useRetiring> }) {
  const receiver = useReceivers().name
  const selections = useSelected().data ?? []
  const plans = usePlans().data ?? []
  const names = { receiver, plan: (id: string) => plans.find((p) => p.id === id)?.spec.name ?? 'another plan', selection: (id: string) => selections.find((s) => s.id === id)?.name ?? id }
  const services = useServices().data ?? []
  const teams = useParties('team').data ?? []
  const keep = useKeep()
  const users = [
    ...teams.filter((t) => !t.retired && 'notice_plan' in t.spec && t.spec.notice_plan === plan.id).map((t) => ({ path: '/set-up/teams', name: t.spec.name })),
    ...plans.filter((p) => !p.retired && p.spec.instead === plan.id).map((p) => ({ path: `/notices/plans/${p.id}`, name: `${p.spec.name}, outside its hours` })),
    ...services.filter((s) => !s.retired && s.spec.notices?.plan === plan.id).map((s) => ({ path: `/services/${s.id}`, name: s.spec.name })),
  ]
  return (
    <section className="entry" data-plan={plan.id} style={plan.retired ? { opacity: 0.6 } : undefined} aria-label={plan.spec.name}>
      <div className="head">
        <Link className="name" to={keep(`/notices/plans/${plan.id}`)}>
          {plan.spec.name}
          {plan.retired && ', retired'}
        </Link>
        {may && (
          <button type="button" className="link" onClick={() => (plan.retired ? retiring.restore : retiring.retire)(plan.id)}>
            {plan.retired ? 'restore' : 'retire'}
          </button>
        )}
      </div>
      <ul className="sentences">
        {sentences(plan.spec, names).map((s) => (
          <li key={s}>{s}</li>
        ))}
      </ul>
      <div className="sub">
        {users.length > 0 ? 'Followed by ' : plan.spec.everywhere ? '' : 'Nothing follows it yet.'}
        {users.map((u, i) => (
          <span key={u.path + u.name}>
            {i > 0 && ', '}
            <Link to={keep(u.path)}>{u.name}</Link>
          </span>
        ))}
      </div>
    </section>
  )
}
