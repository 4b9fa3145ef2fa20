import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Fragment, useState } from 'react'
import { Controller } from 'react-hook-form'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { Day, wholeDay } from '../parts/day'
import { decimal, validAmount } from '../parts/decimal'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { useParam } from '../parts/group-by'
import { KeptNote, useKept } from '../parts/kept'
import { More, useFind, useShown } from '../parts/more'
import { Awaited, Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { ReportsNav } from './head'
import { money, sums } from './money'
import { useCredits } from './queries'

type Line = Schemas['CreditLine']

const words: Record<Line['state'], string> = { nothing: 'nothing due', due: 'not claimed', lapsed: 'lapsed', claimed: 'claimed', paid: 'settled' }
const tones: Record<Line['state'], string> = { nothing: 'sub', due: 'word-degraded', lapsed: 'word-unmeasured', claimed: 'word-degraded', paid: 'word-up' }
const kinds: Record<Schemas['CreditEntry']['kind'], string> = { claim: 'claimed', payment: 'paid', waiver: 'waived' }

/** What was missed costs: what is owed by published reports, in both directions, and what became of it. */
export function CreditsPage() {
  const credits = useCredits()
  const [find, text, setText] = useFind()
  const [which, setWhich] = useParam('show')
  const [most, more] = useShown()
  const [open, setOpen] = useState('')
  if (!credits.data) return <Awaited error={credits.error} />
  const sought = find.toLowerCase().split(/\s+/).filter(Boolean)
  const matching = [...credits.data]
    .reverse()
    .filter((l) => sought.every((w) => `${l.agreement.name} ${l.customer} ${l.supplier} ${l.contract?.name ?? ''} ${l.words} ${words[l.state]}`.toLowerCase().includes(w)))
    .filter((l) => !which || (which === 'settled' ? l.state === 'paid' || l.state === 'nothing' : l.state === 'due' || l.state === 'claimed'))
  const shown = matching.slice(0, most)
  return (
    <>
      <ReportsNav />
      <div className="head">
        <Typography variant="h1">Credits</Typography>
        <div className="actions">
          <TextField select label="Show" value={which} sx={{ width: 150 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }} onChange={(e) => setWhich(e.target.value)}>
            <MenuItem value="">all</MenuItem>
            <MenuItem value="open">open ones</MenuItem>
            <MenuItem value="settled">settled ones</MenuItem>
          </TextField>
          <TextField placeholder="agreement, customer, period …" value={text} sx={{ width: 230 }} slotProps={{ htmlInput: { 'aria-label': 'Filter' } }} onChange={(e) => setText(e.target.value)} />
        </div>
      </div>
      {credits.data.length === 0 ? (
        <div className="empty">
          <p>Nothing is owed. A credit comes from a published report of an agreement that has a fee and credits, and missed its target.</p>
        </div>
      ) : (
        <>
          {(['to-customer', 'from-supplier'] as const).map((direction) => (
            <Ledger key={direction} direction={direction} lines={shown.filter((l) => l.direction === direction)} all={matching.filter((l) => l.direction === direction)} open={open} onOpen={(key) => setOpen(key === open ? '' : key)} />
          ))}
          {matching.length === 0 && <p className="sub">No credit matches. Take a word away.</p>}
          <More shown={shown.length} of={matching.length} onMore={more} />
          <p className="sub">
            Due is what is owed, less what the contract’s limits take, less what was paid too much before. <a href="/api/v1/credits/export" download className="link">Export the ledger</a>
          </p>
        </>
      )}
    </>
  )
}

const keyOf = (l: Line) => `${l.agreement.id} ${l.period}`

type LedgerProps = { direction: Line['direction']; lines: Line[]; all: Line[]; open: string; onOpen: (key: string) => void }

function Ledger({ direction, lines, all, open, onOpen }: LedgerProps) {
  if (lines.length === 0) return null
  const ours = direction === 'to-customer'
  return (
    <section aria-label={ours ? 'Owed to customers' : 'Owed by suppliers'} data-ledger={direction}>
      <h2 className="group">
        {ours ? 'Owed to customers' : 'Owed by suppliers'}
        <span className="sub">{sums(all).map((s) => [`${money(s.open)} ${s.currency} open of ${money(s.due)} due`, Number(s.lapsed) > 0 && `${money(s.lapsed)} lapsed`].filter(Boolean).join(', ')).join(' · ')}</span>
      </h2>
      <Table size="small" sx={{ tableLayout: { md: 'fixed' } }}>
        <TableHead>
          <TableRow>
            <TableCell>Period</TableCell>
            <TableCell>{ours ? 'Customer' : 'Supplier'}</TableCell>
            <TableCell>Agreement</TableCell>
            <TableCell align="right">Owed</TableCell>
            <TableCell align="right">Capped</TableCell>
            <TableCell align="right">Due</TableCell>
            <TableCell align="right">Settled</TableCell>
            <TableCell align="right">Open</TableCell>
            <TableCell>State</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {lines.map((l) => (
            <Fragment key={keyOf(l)}>
              <TableRow data-credit={keyOf(l)} data-state={l.state}>
                <TableCell>
                  <button type="button" className="link" aria-expanded={open === keyOf(l)} onClick={() => onOpen(keyOf(l))}>
                    {l.words}
                  </button>
                </TableCell>
                <TableCell>{ours ? l.customer : l.supplier}</TableCell>
                <TableCell>{l.agreement.name}</TableCell>
                <TableCell align="right">{money(l.owed)}</TableCell>
                <TableCell align="right" title={l.why}>
                  {Number(l.capped) ? money(l.capped) : '–'}
                </TableCell>
                <TableCell align="right">{money(l.due)}</TableCell>
                <TableCell align="right">{Number(l.settled) ? money(l.settled) : '–'}</TableCell>
                <TableCell align="right">
                  {l.state === 'lapsed' ? <span className="sub">{money(l.open)}</span> : <b>{money(l.open)}</b>} {l.currency}
                </TableCell>
                <TableCell>
                  <span className={tones[l.state]}>{words[l.state]}</span>
                  {l.state === 'due' && l.until && <div className="sub">until {l.until}</div>}
                </TableCell>
              </TableRow>
              {open === keyOf(l) && (
                <TableRow>
                  <TableCell colSpan={9} sx={{ paddingLeft: '18px !important' }}>
                    <Settled line={l} />
                  </TableCell>
                </TableRow>
              )}
            </Fragment>
          ))}
        </TableBody>
      </Table>
    </section>
  )
}

/** How a credit comes to be, what happened to it, and what happens next. */
function Settled({ line: l }: { line: Line }) {
  const { zone } = useZone()
  const back = useChange({
    mutationFn: (entry: number) => ask(api.DELETE('/api/v1/credits/{agreement}/entries/{entry}', { params: { path: { agreement: l.agreement.id, entry } } })),
    again: ['credits'],
  })
  return (
    <>
      <p>
        <Link to={`/reports/${l.report}`}>The report</Link> says: {l.percent} % of the fee of {money(l.fee)} {l.currency} is {money(l.owed)} {l.currency}
        {Number(l.capped) > 0 && `; ${money(l.capped)} are above the limit of ${l.contract?.name ?? 'the contract'}, ${l.why ?? ''}`}
        {Number(l.carried) < 0 && `; ${money(l.carried.replace('-', ''))} were paid too much for earlier periods`}. {money(l.due)} {l.currency} are due
        {Number(l.open) < 0 && `, and ${money(l.open.replace('-', ''))} more were paid: the next periods carry them`}.
      </p>
      {l.entries.map((e) => (
        <div key={e.id} className="entry low" data-entry={e.kind}>
          <span className={e.taken_back ? 'sub' : undefined}>
            {e.taken_back && <s>{`${e.on} ${kinds[e.kind]} ${money(e.amount)} ${l.currency}`}</s>}
            {!e.taken_back && `${e.on} ${kinds[e.kind]} ${money(e.amount)} ${l.currency}`}
          </span>{' '}
          <span className="sub">
            {[e.taken_back && 'taken back', e.reference, e.note, `${e.by}, ${shortTime(e.at, zone)}`].filter(Boolean).join(' · ')}
          </span>{' '}
          {l.may && !e.taken_back && e.kind === 'claim' && (
            <>
              <a className="link" href={`/api/v1/credits/${l.agreement.id}/entries/${e.id}/document`} download>
                the claim as PDF
              </a>{' '}
            </>
          )}
          {l.may && !e.taken_back && (
            <button type="button" className="link" disabled={back.isPending} onClick={() => back.mutate(e.id)}>
              take back
            </button>
          )}
        </div>
      ))}
      <Trouble error={back.error} />
      {l.may && <Enter key={l.entries.length} line={l} />}
    </>
  )
}

type Values = { kind: Schemas['CreditEntry']['kind']; amount: string; on: string; reference: string; note: string }

function Enter({ line: l }: { line: Line }) {
  const { home } = useZone()
  const claimable = l.state === 'due' || (l.state === 'claimed' && Number(l.claimed) === 0)
  const fresh: Values = { kind: claimable ? 'claim' : 'payment', amount: Number(l.open) > 0 ? l.open : '', on: '', reference: '', note: '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, l.entries.length, { draft: `credits/${keyOf(l)}` })
  const save = useChange({
    mutationFn: (v: Values) => ask(api.POST('/api/v1/credits/entries', { body: { agreement: l.agreement.id, period: l.period, kind: v.kind, amount: decimal(v.amount), on: v.on || undefined, reference: v.reference.trim() || undefined, note: v.note.trim() || undefined } })),
    again: ['credits'],
    kept,
    onError: (e) => showFaults(e, form.setError),
  })
  if (Number(l.open) <= 0) return null
  const err = form.formState.errors
  return (
    <form className="form in-place" noValidate aria-label={`What happened to the credit of ${l.agreement.name} for ${l.words}`} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} />
      <div className="side">
        <Controller
          control={form.control}
          name="kind"
          render={({ field }) => (
            <TextField select label="It was" {...field} error={Boolean(err.kind)} helperText={err.kind?.message}>
              {Object.entries(kinds).map(([k, w]) => (
                <MenuItem key={k} value={k}>
                  {w}
                </MenuItem>
              ))}
            </TextField>
          )}
        />
        <TextField label="Amount" required slotProps={{ input: { endAdornment: l.currency } }} error={Boolean(err.amount)} helperText={err.amount?.message} {...form.register('amount', { validate: (v) => (v.trim() === '' ? 'Say how much' : validAmount(v)) })} />
        <Controller control={form.control} name="on" rules={{ validate: wholeDay }} render={({ field: { value, onChange, ...f } }) => <Day label="On" value={value} change={onChange} zone={home} error={err.on?.message} help="empty: today" field={f} />} />
      </div>
      <div className="side">
        <TextField label="Reference" error={Boolean(err.reference)} helperText={err.reference?.message ?? 'Of a letter, a bill, a payment'} {...form.register('reference')} />
        <TextField label="Note" error={Boolean(err.note)} helperText={err.note?.message} {...form.register('note')} />
      </div>
      <FormEnd error={save.error} busy={save.isPending} save="Enter it" />
    </form>
  )
}
