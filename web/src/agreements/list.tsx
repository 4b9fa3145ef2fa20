import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMemo } from 'react'
import { Link } from 'react-router'
import type { Listed, Schemas } from '../api/client'
import { accountsOf, useAccounts, useAgreements, useMayDefine, useServices } from '../api/queries'
import { Band, axisOf } from '../axis/band'
import { Legend, Strip, classTimes } from '../axis/strip'
import { Export } from '../parts/export'
import { GroupBy, GroupHead, useParam } from '../parts/group-by'
import { first, rowsOf, sections } from '../parts/groups'
import { More, useFind, useShown } from '../parts/more'
import { OwnPeriod } from '../parts/own-period'
import { usePartyName } from '../parts/party'
import { SortWords, useSort } from '../parts/sort'
import { Awaited, NoAccount } from '../parts/trouble'
import { duration, durationUp, percent } from '../time/format'
import { useKeep, useSpan } from '../time/span'

type Agreement = Schemas['DefinedAgreementSpec']

/** What exactly was promised, to whom, and how it stands in the period. */
export function AgreementList() {
  const [span] = useSpan()
  const agreements = useAgreements()
  const [find, text, setText] = useFind()
  const [most, more] = useShown()
  const keep = useKeep()
  const may = useMayDefine()
  const customer = usePartyName('customer')
  const contract = usePartyName('contract')
  const team = usePartyName('team')
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const live = (agreements.data ?? []).filter((a) => !a.retired)
  const sort = useSort<Agreement>({ name: (a) => a.spec.name, customer: (a) => customer(a.spec.customer), target: (a) => Number(a.spec.target_percent) }, 'name')
  const matching = sort.sorted(
    live.filter((a) => words.every((w) => `${a.spec.name} ${customer(a.spec.customer)}`.toLowerCase().includes(w))),
  )
  const [by, setBy] = useParam('by')
  const services = useServices()
  const described = useMemo(() => new Map((services.data ?? []).map((s) => [s.id, s.spec])), [services.data])
  const ways: Record<string, (a: Agreement) => string[]> = {
    customer: (a) => [customer(a.spec.customer)],
    contract: (a) => [contract(a.spec.contract)],
    owner: (a) => [team(described.get(a.spec.service)?.owner)],
    tag: (a) => described.get(a.spec.service)?.tags ?? [],
    service: (a) => [described.get(a.spec.service)?.name ?? a.spec.service],
  }
  const groups = sections(matching, ways[by])
  const shown = first(groups, most)
  const accounts = useAccounts([...new Set(shown.flatMap((g) => g.items.map((a) => a.id)))], span)
  if (!agreements.data || !accounts.data?.span) return <Awaited error={agreements.error ?? accounts.error} />
  const band = accounts.data.span
  const axis = axisOf(band)
  const retired = agreements.data.filter((a) => a.retired)
  const account = new Map(accounts.data.accounts.map((a) => [a.agreement, a]))
  const exported = async () => {
    const all = new Map((await accountsOf(matching.map((a) => a.id), span)).accounts.map((a) => [a.agreement, a]))
    return matching.map((a) => {
      const own = all.get(a.id)
      const f = own?.fault ? undefined : own?.figures
      return [a.id, a.spec.name, customer(a.spec.customer), a.spec.target_percent, own?.period.name, own?.as_of, f?.verdict, f?.availability_percent, f?.downtime_ms, f?.allowance_left_ms, f?.coverage_percent]
    })
  }
  return (
    <>
      <Band span={band} />
      <div className="head">
        <Typography variant="h1">Agreements</Typography>
        <div className="actions">
          {live.length > 1 && <GroupBy value={by} change={setBy} of={Object.keys(ways)} />}
          {live.length > 20 && <TextField placeholder="name or customer" value={text} sx={{ width: 220 }} slotProps={{ htmlInput: { 'aria-label': 'Filter' } }} onChange={(e) => setText(e.target.value)} />}
          {may && (
            <Button component={Link} to={keep('/agreements/new')} variant="contained">
              Write down an agreement
            </Button>
          )}
        </div>
      </div>
      {live.length === 0 ? (
        <div className="empty">
          <p>Nothing was promised yet. Write down a target for a service, and Standing shows how it fares.</p>
        </div>
      ) : (
        <>
          <div className="axis-row column-heads">
            <SortWords sort={sort} of={['name', 'customer', 'target']} />
            <span>What its time counts as</span>
            <span className="pair">
              <span>Downtime</span>
              <span>{axis.now < axis.to ? 'So far' : 'Availability'}</span>
            </span>
          </div>
          {shown.map((g) => (
            <section key={g.name} aria-label={by ? g.name || 'none' : undefined}>
              {by && <GroupHead name={g.name} none={by === 'customer' ? 'internal' : `no ${by}`} count={g.all.length} />}
              {g.items.map((a) => (
                <Row key={a.id} agreement={a} customer={customer(a.spec.customer)} account={account.get(a.id)} axis={axis} to={keep(`/agreements/${a.id}`)} />
              ))}
            </section>
          ))}
          {matching.length === 0 && (
            <div className="empty">
              <p>No agreement matches. Take a word away.</p>
            </div>
          )}
          <More shown={rowsOf(shown)} of={rowsOf(groups)} busy={accounts.isPlaceholderData} onMore={more} />
          <Legend />
          <Box sx={{ marginTop: '14px' }}>
            <Export
              name={`agreements-${band.name}`}
              columns={['id', 'name', 'customer', 'target_percent', 'period', 'as_of', 'verdict', 'availability_percent', 'downtime_ms', 'allowance_left_ms', 'coverage_percent']}
              rows={exported}
            />
          </Box>
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

function Row({ agreement: a, customer, account, axis, to }: { agreement: Agreement; customer: string; account: Listed | undefined; axis: { from: number; to: number; now: number }; to: string }) {
  const word = account?.word ?? ''
  return (
    <Link to={to} className="entry axis-row">
      <span>
        <div className="name">{a.spec.name}</div>
        <div className="sub">
          {account?.customer || customer || 'internal'} · {a.spec.target_percent} %{a.spec.service_hours ? ', in service hours' : ''}
        </div>
        <OwnPeriod of={account} axis={axis} />
      </span>
      {account?.fault ? (
        <NoAccount why={account.fault} />
      ) : (
        <>
          <Strip zooms columns={account?.strip ?? ''} total={account ? classTimes(account.figures.total_ms) : {}} planned={account?.planned} axis={axis} label={a.spec.name} />
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
