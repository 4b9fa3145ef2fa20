import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { Schemas } from '../api/client'
import { useClauses, usePeriods, useWhatIf } from '../api/queries'
import { Strip } from '../axis/strip'
import { validTarget } from '../parts/decimal'
import { useSettled } from '../parts/settled'
import { Stands } from '../parts/stands'
import { Trouble } from '../parts/trouble'
import { percent } from '../time/format'
import type { Spec } from './values'

type Agreement = Schemas['DefinedAgreementSpec']

type Props = {
  agreement: Agreement | undefined
  wanted: Spec
  /** What of an agreement its accounts depend on, as text. */
  clauses: (s: Spec) => string
  /** That of the agreement as it is saved. */
  own: string
}

/** Beside the form: what it says in words, and what the last periods would have made of it. */
export default function Beside({ wanted, ...more }: Props) {
  return (
    <>
      <InWords wanted={wanted} />
      <LastPeriods wanted={wanted} {...more} />
    </>
  )
}

/** The clauses as a contract would say them, as they stand in the form. */
function InWords({ wanted }: { wanted: Spec }) {
  const spec = useSettled(wanted, JSON.stringify(wanted), 500)
  const words = useClauses(validTarget(spec.target_percent) === true ? { ...spec, name: spec.name || 'New' } : undefined)
  if (!words.data) return null
  return (
    <section aria-label="In words">
      <Typography variant="h2" sx={{ marginTop: '6px', marginBottom: '4px' }}>In words</Typography>
      <ul className="sentences">
        {words.data.sentences.map((w) => (
          <li key={w}>{w}</li>
        ))}
      </ul>
      {words.data.doubts.length > 0 && (
        <>
          <Typography variant="h3" sx={{ mb: 0.5 }}>To think of</Typography>
          <ul className="sentences" data-doubts={words.data.doubts.length}>
            {words.data.doubts.map((w) => (
              <li key={w}>{w}</li>
            ))}
          </ul>
        </>
      )}
    </section>
  )
}

/** The last thirteen periods under one another: as they were accounted, and what the edited clauses would have made of them. */
function LastPeriods({ agreement, wanted, clauses, own }: Props) {
  const last = 13
  const spec = useSettled(wanted, clauses(wanted), 500)
  const valid = validTarget(spec.target_percent) === true
  const edited = !agreement || clauses(spec) !== own
  const was = usePeriods(agreement?.id, last)
  // It has no name yet while it is written down.
  const would = useWhatIf(edited && valid ? { ...spec, name: spec.name || 'New' } : undefined, last)
  const all = edited ? (valid ? would.data : undefined) : was.data
  const shown = all?.items
  const met = (list: Period[] | undefined) => list?.filter((p) => p.figures.verdict === 'met').length ?? 0
  const called = shown?.reduce((n, p) => n + p.calls.length, 0) ?? 0
  const over = shown?.filter((p) => p.figures.final).length ?? 0
  return (
    <section aria-label="The last periods">
      <Typography variant="h2" sx={{ marginTop: '6px', marginBottom: '4px' }}>{edited ? 'The last periods under these clauses' : 'The last periods'}</Typography>
      {shown && (
        <Box component="p" className="sub" sx={{ margin: '0 0 8px' }} aria-live="polite" data-summary={edited ? 'what-if' : 'own'}>
          {met(shown)} of {over} finished periods {edited ? 'would have been met' : 'were met'}
          {edited && agreement && was.data && `; ${met(was.data.items)} were. Nothing is changed until you save.`}
          {!(edited && agreement && was.data) && '.'} The pace of downtime would have called somebody {called === 0 ? 'never' : called === 1 ? 'once' : `${called} times`}.
        </Box>
      )}
      {all && <Promisable of={all.promisable} by={edited ? 'By what is known today' : 'As published or frozen where it was, otherwise by what is known today'} target={valid ? spec.target_percent : ''} />}
      {edited && !valid && <p className="sub">Give a target between 0 and 100 to see them.</p>}
      <Trouble error={edited ? would.error : was.error} />
      {(edited ? would.isPending && valid : was.isPending) && <p className="sub">Accounting thirteen periods …</p>}
      {shown?.map((p) => <PeriodEntry key={p.period} period={p} zone={spec.timezone} before={edited && agreement ? was.data?.items.find((w) => w.period === p.period) : undefined} />)}
    </section>
  )
}

type Period = Schemas['PeriodAccount']

/** The highest target that the finished periods would have met. */
function Promisable({ of, by, target }: { of: Schemas['Promisable']; by: string; target: string }) {
  if (!of.always_percent) return null
  const bounds = (low: string | undefined, at: string) => (low && low !== at ? ` (${percent(low)} by the bounds of sampling)` : '')
  return (
    <Box component="p" className="sub" sx={{ margin: '0 0 8px' }} data-promisable={of.always_percent}>
      The highest target that {of.periods === 1 ? 'the finished period' : `all ${of.periods} finished periods`} would have met: <b>{percent(of.always_percent)}</b>
      {bounds(of.always_low_percent, of.always_percent)}
      {of.but_one_percent && (
        <>
          ; all but one: <b>{percent(of.but_one_percent)}</b>
          {bounds(of.but_one_low_percent, of.but_one_percent)}
        </>
      )}
      .{target !== '' && Number(target) > Number(of.always_percent) && ' The target is above that.'} {by}.
    </Box>
  )
}

/** How the promises beside availability fared. */
function besides(o: Schemas['Figures']['objectives']): string {
  const all = [o?.outages_at_most, o?.longest_outage_s, o?.mttr_s].filter((x) => x !== undefined)
  if (all.length === 0) return ''
  const missed = all.filter((x) => x.met === false).length
  const met = all.filter((x) => x.met === true).length
  if (missed > 0) return `; ${missed} of ${all.length} promises beside it missed`
  return met === all.length ? '; all promises beside it met' : '; no promise beside it missed so far'
}

function PeriodEntry({ period: p, zone, before }: { period: Period; zone: string; before: Period | undefined }) {
  const axis = { from: Date.parse(p.span.from), to: Date.parse(p.span.to), now: Date.now() }
  const changed = before && before.figures.verdict !== p.figures.verdict
  return (
    <Box className="entry" sx={{ padding: '6px 0' }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', fontSize: '0.85rem' }}>
        <span>{p.words}</span>
        <span>
          {percent(p.figures.availability_percent)} {changed && <s className="sub">{before.figures.verdict.replace('-', ' ')}</s>} <span className={`word-${p.figures.verdict}`}>{p.figures.verdict.replace('-', ' ')}</span>
        </span>
      </Box>
      <Strip thin intervals={p.intervals} axis={axis} label={p.words} />
      <div className="sub">
        {p.figures.balance.used} down in {p.figures.outages.count} {p.figures.outages.count === 1 ? 'outage' : 'outages'}, {p.figures.balance.left} left
        {besides(p.figures.objectives)}
        {p.calls.length > 0 && `; would have called ${p.calls.length === 1 ? 'once' : `${p.calls.length} times`}`}
        {before && before.figures.availability_percent !== p.figures.availability_percent && ` (it was ${percent(before.figures.availability_percent)})`}
        {p.near_words && <div data-near={p.period}>{p.near_words}</div>}
      </div>
      <Stands of={p.stands} zone={zone} />
    </Box>
  )
}
