import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMay } from '../api/queries'
import { Strip } from '../axis/strip'
import { useParam } from '../parts/group-by'
import { Awaited, Confirm, Trouble } from '../parts/trouble'
import { durationExact, fullTime, percent, shortTime } from '../time/format'
import { exactly } from '../time/span'
import { AnswerForm } from './answer'
import { closePath, freeze, useClose, type Page, type Question } from './queries'
import { Files, Together } from './together'
import { asked, causes, shortly, when } from './words'
import './close.css'

const Counter = lazy(() => import('./counter'))

/** The close of one period: its questions, the one that is looked at, and the account that follows. */
export function ClosePage() {
  const { id = '' } = useParams()
  const [period] = useParam('period')
  const close = useClose(id, period)
  const [key, choose] = useParam('q')
  const [thought, think] = useState<Schemas['WouldAdjust']>()
  const [comparing, setComparing] = useState(false)
  const c = close.data
  if (!c) return <Awaited error={close.error} />
  const open = c.questions.filter((q) => !q.answer)
  const answered = c.questions.filter((q) => q.answer)
  const q = c.questions.find((x) => x.key === key) ?? (c.frozen ? undefined : open[0])
  const next = () => {
    const rest = open.filter((x) => x.key !== q?.key)
    choose(rest[0]?.key ?? '')
    think(undefined)
  }
  return (
    <>
      <div className="head">
        <div>
          <Typography variant="h1" data-headline>
            {c.agreement.name}, {c.period.words}:{' '}
            {c.frozen ? 'frozen' : open.length === 0 ? 'nothing is open; it can be frozen' : `${open.length} of ${c.questions.length} ${c.questions.length === 1 ? 'question' : 'questions'} ${open.length === 1 ? 'is' : 'are'} open`}.
          </Typography>
          <div className="sub">
            <Link to={`/close?of=${encodeURIComponent(c.period.name)}`}>Close</Link> · <Link to={`/services/${c.service.id}?span=${encodeURIComponent(c.period.name)}`}>{c.service.name}</Link> · {c.customer || 'internal'} · {c.target_percent} % · times in {c.timezone}
          </div>
        </div>
        <Together c={c} />
      </div>
      <Columns>
        <nav aria-label="Questions">
          <List title="Open" of={open} chosen={q} zone={c.timezone} choose={choose} />
          <List title="Answered" of={answered} chosen={q} zone={c.timezone} choose={choose} />
          {c.questions.length === 0 && <p className="sub">Nothing of this period asks for a word: all of it was measured, nothing that counts was down, no work was refused, nothing was edited.</p>}
        </nav>
        <div>
          {q ? <Asked key={q.key} c={c} q={q} next={next} think={think} /> : <AllAnswered c={c} />}
          <Box component="details" className="more" sx={{ marginTop: '28px' }} onToggle={(e: React.ToggleEvent<HTMLDetailsElement>) => setComparing(e.currentTarget.open)}>
            <summary>Compare with somebody else’s list of outages</summary>
            {comparing && (
              <Suspense fallback={null}>
                <Counter c={c} />
              </Suspense>
            )}
          </Box>
        </div>
        <Account c={c} thought={thought} />
      </Columns>
    </>
  )
}

function Columns({ children }: { children: React.ReactNode }) {
  return <Box sx={{ display: 'grid', gap: '12px 28px', gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: '236px minmax(0, 1fr) 270px' }, alignItems: 'start' }}>{children}</Box>
}

/** Questions of a close, one line each and a half. */
function List({ title, of, chosen, zone, choose }: { title: string; of: Question[]; chosen: Question | undefined; zone: string; choose: (key: string) => void }) {
  const [all, setAll] = useState(false)
  if (of.length === 0) return null
  const shown = all ? of : of.slice(0, 30)
  return (
    <Box component="section" sx={{ marginBottom: '18px' }}>
      <div className="sub">
        {title}, {of.length}
      </div>
      {shown.map((q) => (
        <Box
          component="button"
          type="button"
          key={q.key}
          data-question={q.kind}
          aria-current={q.key === chosen?.key}
          onClick={() => choose(q.key)}
          sx={{ display: 'block', width: '100%', textAlign: 'left', font: 'inherit', color: 'inherit', background: 'none', cursor: 'pointer', padding: '8px 0 8px 10px', border: 0, borderLeft: '3px solid transparent', borderBottom: '1px solid var(--mui-palette-divider)', '&[aria-current=true]': { borderLeftColor: 'var(--mui-palette-primary-main)', background: 'var(--mui-palette-background-paper)' } }}
        >
          <b>{shortly(q, zone)}</b>
          <div className="sub">{q.answer ? `${q.answer.text.split('\n')[0]?.slice(0, 80)}${q.answer.by ? ` · ${q.answer.by}` : ''}` : q.why}</div>
        </Box>
      ))}
      {of.length > shown.length && (
        <button type="button" className="link" onClick={() => setAll(true)}>
          {of.length - shown.length} more
        </button>
      )}
    </Box>
  )
}

/** One question: when, what is known of it, its answer. */
function Asked({ c, q, next, think }: { c: Page; q: Question; next: () => void; think: (t: Schemas['WouldAdjust'] | undefined) => void }) {
  const adjustment = q.kind === 'adjustment' ? c.adjustments.find((a) => a.id === q.subject?.id) : undefined
  return (
    <section aria-label="Question">
      <Typography variant="h2" sx={{ mb: 0.5 }}>
        {asked(q, c.service.name, c.timezone)}
      </Typography>
      <p className="sub">
        {when(q, c.timezone)}
        {q.from ? '. ' : ''}
        {q.why.charAt(0).toUpperCase() + q.why.slice(1)}.
      </p>
      <Around c={c} q={q} />
      {adjustment ? <Decide a={adjustment} next={next} /> : <AnswerForm c={c} q={q} next={next} think={think} />}
      <Files c={c} q={q} />
    </section>
  )
}

/** The strip around what is asked about, with ways to look closer. */
function Around({ c, q }: { c: Page; q: Question }) {
  if (!q.from) return null
  const [from, to] = [Date.parse(q.from), Date.parse(q.to ?? c.period.to)]
  const spare = Math.max(30 * 60_000, (to - from) * 0.6)
  const [left, right] = [Math.max(Date.parse(c.period.from), from - spare), Math.min(Date.parse(c.period.to), to + spare)]
  const axis = { from: left, to: right, now: right }
  const inside = c.intervals
    .filter((i) => Date.parse(i.to) > left && Date.parse(i.from) < right)
    .map((i) => ({ ...i, from: new Date(Math.max(left, Date.parse(i.from))).toISOString(), to: new Date(Math.min(right, Date.parse(i.to))).toISOString() }))
  return (
    <Box sx={{ margin: '4px 0 14px', maxWidth: '620px' }}>
      <Box className="sub" sx={{ display: 'flex', justifyContent: 'space-between' }} aria-hidden>
        <span>{shortTime(left, c.timezone)}</span>
        <span>{shortTime(right, c.timezone)}</span>
      </Box>
      <Strip intervals={inside} axis={axis} label={`${c.service.name}, ${shortTime(left, c.timezone)} to ${shortTime(right, c.timezone)}`} />
      <div className="sub">
        <Link to={`/services/${c.service.id}?span=${encodeURIComponent(exactly(left, right))}&at=${encodeURIComponent(q.from)}`}>Its lanes and measurements then</Link>
        {q.of === 'incident' && q.subject && (
          <>
            {' · '}
            <Link to={`/incidents/${q.subject.id}`}>{q.subject.name}</Link>
          </>
        )}
        {q.of === 'window' && q.subject && (
          <>
            {' · '}
            <Link to={`/calendar/plan/${q.subject.id}`}>{q.subject.name}</Link>
          </>
        )}
        {q.of === 'report' && q.subject && (
          <>
            {' · '}
            <Link to={`/reports/${q.subject.id}`}>{q.subject.name}</Link>
          </>
        )}
        {q.of === 'check' && q.subject && (
          <>
            {' · '}
            <Link to={`/checks/${q.subject.id}`}>{q.subject.name}</Link>
          </>
        )}
      </div>
    </Box>
  )
}

/** An adjustment that waits for a second person. */
function Decide({ a, next }: { a: Page['adjustments'][number]; next?: () => void }) {
  const [note, setNote] = useState('')
  const decide = useChange({
    again: 'all',
    mutationFn: (does: 'approve' | 'refuse' | 'withdraw') => ask(api.POST('/api/v1/adjustments/{id}/decision', { params: { path: { id: a.id } }, body: { does, note: note.trim() || undefined } })),
    onSuccess: () => next?.(),
  })
  return (
    <section aria-label="Decide">
      <p>
        {a.proposer.name} proposes that it counts as <b>{a.class}</b>: {a.reason}
        <span className="sub">
          {' '}
          Cause: {causes[a.cause]}
          {a.reference && `; reference ${a.reference}`}.
        </span>
      </p>
      {a.may && <TextField label="What you say to it" multiline fullWidth maxRows={5} value={note} onChange={(e) => setNote(e.target.value)} helperText="Of a refusal: why" slotProps={{ htmlInput: { maxLength: 500 } }} />}
      <div className="in-a-row">
        {a.may && (
          <Button variant="contained" disabled={decide.isPending} onClick={() => decide.mutate('approve')}>
            Approve
          </Button>
        )}
        {a.may && (
          <Button disabled={decide.isPending} onClick={() => decide.mutate('refuse')}>
            Refuse
          </Button>
        )}
        {a.mine && (
          <Button disabled={decide.isPending} onClick={() => decide.mutate('withdraw')}>
            Withdraw it
          </Button>
        )}
      </div>
      {!a.may && <p className="sub">{a.mine ? 'Somebody else decides: an approver, a manager or an administrator.' : 'An approver, a manager or an administrator decides.'}</p>}
      <Trouble error={decide.error} />
    </section>
  )
}

/** What there is to read once nothing is asked any more. */
function AllAnswered({ c }: { c: Page }) {
  return (
    <section aria-label="The account">
      {c.frozen ? (
        <>
          <Typography variant="h2">Frozen {fullTime(c.frozen.at, c.timezone)} by {c.frozen.by}</Typography>
          {c.frozen.differs.length === 0 ? (
            <p>Measured and defined as things are today, the account says the same.</p>
          ) : (
            <div className="consequence" data-differs>
              <b>Since then:</b>
              {c.frozen.differs.map((w) => (
                <div key={w}>{w}</div>
              ))}
            </div>
          )}
        </>
      ) : (
        <p>{c.questions.length === 0 ? 'Nothing is asked of it' : 'Everything that was asked is answered'}. Freeze the account, and a report can be drafted from it.</p>
      )}
      <Strip intervals={c.intervals} axis={{ from: Date.parse(c.period.from), to: Date.parse(c.period.to), now: Date.parse(c.period.to) }} label={c.period.words} />
      {c.unfrozen.map((u) => (
        <p key={u.at} className="sub">
          Frozen {fullTime(u.at, c.timezone)} by {u.by}, unfrozen {fullTime(u.unfrozen_at, c.timezone)} by {u.unfrozen_by}: {u.reason}
        </p>
      ))}
    </section>
  )
}

/** The account as it is, beside what it would be; the adjustments in it; freezing. */
function Account({ c, thought }: { c: Page; thought: Schemas['WouldAdjust'] | undefined }) {
  const now = thought?.before ?? c.frozen?.figures ?? c.figures
  const then = thought?.after
  const rows: [string, (f: Schemas['Figures']) => string][] = [
    ['Agreed time', (f) => durationExact(f.total_ms.agreed)],
    ['Up', (f) => durationExact(f.total_ms.up)],
    ['Degraded', (f) => durationExact(f.total_ms.degraded)],
    ['Down', (f) => durationExact(f.total_ms.down)],
    ['Maintenance', (f) => durationExact(f.total_ms.maintenance)],
    ['Excused, upstream', (f) => durationExact(f.total_ms.excused + f.total_ms.upstream)],
    ['Tolerated', (f) => durationExact(f.total_ms.tolerated)],
    ['Not measured', (f) => durationExact(f.total_ms.unmeasured)],
    ['Coverage', (f) => `${f.coverage_percent} %`],
    ['Availability', (f) => (f.availability_percent ? percent(f.availability_percent) : 'none')],
    ['Bounds', (f) => (f.availability_low_percent ? `${f.availability_low_percent} – ${f.availability_high_percent}` : '')],
    ['Downtime', (f) => durationExact(f.downtime_ms)],
    ['Allowance left', (f) => durationExact(f.allowance_left_ms)],
    ['Credit', (f) => `${f.credit_percent} %`],
    ['Verdict', (f) => f.verdict.replace('-', ' ')],
  ]
  const shown = rows.filter(([name, of]) => !['Maintenance', 'Excused, upstream', 'Tolerated', 'Degraded', 'Credit'].includes(name) || !/^0( s| %)$/.test(of(now)) || (then && !/^0( s| %)$/.test(of(then))))
  const decided = c.adjustments.filter((a) => a.state !== 'proposed')
  return (
    <aside aria-label="The account">
      <Typography variant="h2">{c.frozen ? 'As it was frozen' : 'As it is now'}</Typography>
      {then && <div className="sub">as it is → with this adjustment</div>}
      <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'auto 1fr', gap: '4px 12px', margin: '8px 0 12px', fontSize: '0.88rem', '& dd': { margin: 0, textAlign: 'right', whiteSpace: 'nowrap' } }} data-account>
        {shown.map(([name, of]) => {
          const [a, b] = [of(now), then && of(then)]
          const changed = b !== undefined && b !== a
          return [
            <dt key={name}>{name}</dt>,
            <dd key={`${name}=`} className={name === 'Verdict' ? `word-${(then ?? now).verdict}` : undefined}>
              {changed ? (
                <>
                  <Box component="span" sx={{ textDecoration: 'line-through', color: 'var(--mui-palette-text-secondary)', fontWeight: 400 }}>
                    {a}
                  </Box>
                  <br />
                  <b>{b}</b>
                </>
              ) : (
                a
              )}
            </dd>,
          ]
        })}
      </Box>
      <Ending c={c} />
      {decided.length > 0 && (
        <>
          <Typography variant="h2" sx={{ mt: 2 }}>
            Adjustments
          </Typography>
          {decided.map((a) => (
            <p key={a.id} className="sub" data-adjustment={a.state}>
              <b>
                {shortTime(a.from, c.timezone)} to {shortTime(a.to, c.timezone)}: {a.class}
              </b>
              , {a.state} by {a.decider?.name}, proposed by {a.proposer.name}. {a.reason}
            </p>
          ))}
        </>
      )}
    </aside>
  )
}

/** Freezing, unfreezing, drafting the report. */
function Ending({ c }: { c: Page }) {
  const navigate = useNavigate()
  const may = useMay()
  const [asking, setAsking] = useState(false)
  const [reason, setReason] = useState<string>()
  const fix = useChange({ again: 'all', mutationFn: () => freeze(c), onSettled: () => setAsking(false) })
  const loosen = useChange({ again: 'all', mutationFn: (why: string) => ask(api.POST('/api/v1/closes/{id}/unfreeze', { ...closePath(c), body: { reason: why } })), onSuccess: () => setReason(undefined) })
  const draft = useChange({ again: ['reports'], mutationFn: () => ask(api.POST('/api/v1/reports', { body: { agreement: c.agreement.id, period: c.period.name } })), onSuccess: ({ id }) => navigate(`/reports/${id}`) })
  if (!c.may_freeze) return c.frozen || c.left > 0 ? null : <p className="sub">A manager freezes it.</p>
  return (
    <>
      <Trouble error={fix.error ?? loosen.error ?? draft.error} />
      {!c.frozen && (
        <>
          <Button variant="contained" disabled={c.left > 0 || fix.isPending} onClick={() => setAsking(true)}>
            Freeze the account
          </Button>
          {c.left > 0 && <p className="sub">Once every question is answered.</p>}
        </>
      )}
      {c.frozen && reason === undefined && (
        <div className="in-a-row tight">
          {may('publish') && (
            <Button variant="contained" disabled={draft.isPending} onClick={() => draft.mutate()}>
              Draft the report
            </Button>
          )}
          <Button variant="text" onClick={() => setReason('')}>
            {c.report ? 'Reopen for a revision' : 'Unfreeze'}
          </Button>
        </div>
      )}
      {c.frozen && reason !== undefined && (
        <form
          className="form"
          onSubmit={(e) => {
            e.preventDefault()
            loosen.mutate(reason)
          }}
        >
          <TextField label="Why" autoFocus required multiline value={reason} onChange={(e) => setReason(e.target.value)} helperText="It stays on record. What was published stays as it is." slotProps={{ htmlInput: { maxLength: 500 } }} />
          <div className="in-a-row tight">
            <Button type="submit" disabled={loosen.isPending || !reason.trim()}>
              {c.report ? 'Reopen it' : 'Unfreeze it'}
            </Button>
            <Button variant="text" onClick={() => setReason(undefined)}>
              Leave it
            </Button>
          </div>
        </form>
      )}
      {c.report && (
        <p className="sub">
          <Link to={`/reports/${c.report}`}>The published report</Link>
        </p>
      )}
      <Confirm
        open={asking}
        title={`Freeze ${c.agreement.name}, ${c.period.words}?`}
        text={`It is ${c.figures.verdict.replace('-', ' ')}${c.figures.availability_percent ? ` with ${percent(c.figures.availability_percent)}` : ''}. The account stays as it is, with what it was made from: what is measured late, edited or adjusted from now on is shown beside it and changes nothing of it, until somebody unfreezes it and says why.`}
        act="Freeze the account"
        busy={fix.isPending}
        onYes={() => fix.mutate()}
        onNo={() => setAsking(false)}
      />
    </>
  )
}
