import Button from '@mui/material/Button'
import { Link } from 'react-router'
import type { Schemas } from '../api/client'
import { useAgreements, useMayDefine, useStanding } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip } from '../axis/strip'
import { Export } from '../parts/export'
import { OwnPeriod } from '../parts/own-period'
import { NoAccount, Trouble } from '../parts/trouble'
import { standingWord } from '../standing/word'
import { duration, durationUp, percent } from '../time/format'
import { useKeep, usePeriod } from '../time/period'

/** What exactly was promised, to whom, and how it stands in the period. */
export function AgreementList() {
  const [period] = usePeriod()
  const agreements = useAgreements()
  const standing = useStanding(period)
  const keep = useKeep()
  const may = useMayDefine()
  if (!agreements.data || !standing.data) return <Trouble error={agreements.error ?? standing.error} />
  const axis = axisOf(standing.data.period)
  const shown = agreements.data.filter((a) => !a.retired).sort((a, b) => a.spec.name.localeCompare(b.spec.name))
  const retired = agreements.data.filter((a) => a.retired)
  const account = (id: string) => standing.data.accounts.find((a) => a.agreement === id)
  return (
    <>
      <Band period={standing.data.period} />
      <div className="head">
        <h1 style={{ margin: 0 }}>Agreements</h1>
        {may && (
          <Button component={Link} to={keep('/agreements/new')} variant="contained">
            Write down an agreement
          </Button>
        )}
      </div>
      {shown.length === 0 ? (
        <div className="empty">
          <p>Nothing was promised yet. Write down a target for a service, and Standing shows how it fares.</p>
        </div>
      ) : (
        <>
          <div className="axis-row column-heads" aria-hidden>
            <span>Agreement</span>
            <span>What its time counts as</span>
            <span className="pair">
              <span>Downtime</span>
              <span>{axis.now < axis.to ? 'So far' : 'Availability'}</span>
            </span>
          </div>
          {shown.map((a) => (
            <Row key={a.id} agreement={a} account={account(a.id)} axis={axis} to={keep(`/agreements/${a.id}`)} />
          ))}
          <Legend />
          <div style={{ marginTop: 14 }}>
            <Export
              name={`agreements-${standing.data.period.name}`}
              columns={['id', 'name', 'customer', 'target_percent', 'period', 'verdict', 'availability_percent', 'downtime_ms', 'allowance_left_ms', 'coverage_percent']}
              rows={shown.map((a) => {
                const own = account(a.id)
                const f = own?.figures
                return [a.id, a.spec.name, a.spec.customer, a.spec.target_percent, own?.period.name, f?.verdict, f?.availability_percent, f?.downtime_ms, f?.allowance_left_ms, f?.coverage_percent]
              })}
            />
          </div>
        </>
      )}
      {retired.length > 0 && (
        <p className="sub" data-retired>
          Retired:{' '}
          {retired.map((a, i) => (
            <span key={a.id}>
              {i > 0 && ', '}
              <Link to={keep(`/agreements/${a.id}`)}>{a.spec.name}</Link>
            </span>
          ))}
        </p>
      )}
    </>
  )
}

function Row({ agreement: a, account, axis, to }: { agreement: Schemas['DefinedAgreementSpec']; account: Schemas['AccountView'] | undefined; axis: { from: number; to: number; now: number }; to: string }) {
  const word = account ? standingWord(account) : ''
  return (
    <Link to={to} className="entry axis-row">
      <span>
        <div className="name">{a.spec.name}</div>
        <div className="sub">
          {a.spec.customer || 'internal'} · {a.spec.target_percent} %{a.spec.service_hours ? ', in service hours' : ''}
        </div>
        <OwnPeriod of={account} axis={axis} />
      </span>
      {account?.fault ? (
        <NoAccount why={account.fault} />
      ) : (
        <>
          <Strip intervals={account?.intervals ?? []} planned={account?.planned} axis={axis} label={a.spec.name} />
          <span className="pair">
            <b>{account && durationUp(account.figures.downtime_ms)}</b>
            <b>{account && percent(account.figures.availability_percent)}</b>
            <span>{account && `of ${duration(account.figures.allowance_ms)}`}</span>
            <span className={`word-${word.replace(' ', '-')}`}>{word}</span>
          </span>
        </>
      )}
    </Link>
  )
}
