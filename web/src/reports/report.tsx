import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { Suspense, lazy, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMay, useReport } from '../api/queries'
import { Legend, Strip } from '../axis/strip'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { Awaited, Confirm, Trouble } from '../parts/trouble'
import { ticks } from '../axis/ticks'
import { fullTime, percent } from '../time/format'
import { Approval, Said } from './said'
import { Sections } from './sections'
import './report.css'

const Links = lazy(() => import('./links'))

/** A report as it reads: a draft to be judged, or what was published. */
export function ReportPage() {
  const { id = '' } = useParams()
  const report = useReport(id)
  const [sharing, setSharing] = useState(false)
  const r = report.data
  if (!r) return <Awaited error={report.error} />
  const axis = { from: Date.parse(r.from), to: Date.parse(r.to), now: Date.parse(r.to) }
  return (
    <>
      <Actions report={r} />
      <Approval report={r} />
      {r.today.length > 0 && (
        <Box className="consequence no-print" sx={{ maxWidth: '820px', mb: 2 }} role="status" data-today>
          <b>It would say something else today.</b>
          {r.today.map((t) => (
            <div key={t}>{t}</div>
          ))}
          <div className="sub">What is published stays as it is. A revision is drafted on Reports; it stands beside this one.</div>
        </Box>
      )}
      <article className="paper">
        <div className="sub">{r.organisation}</div>
        <Typography variant="h1" sx={{ fontSize: '2rem', margin: '6px 0 2px' }}>{r.name}</Typography>
        <div>
          Availability of {r.service_name} in {r.words}
          {r.customer ? ` for ${r.customer}` : ''}
        </div>
        <div className="sub">
          Report {r.number}, {r.published_at ? `published ${fullTime(r.published_at, r.timezone)} (${r.timezone}) by ${r.published_by}` : 'a draft, not published'}
        </div>
        <Box component="p" className="statement" sx={{ '&&': { fontSize: '1.35rem' } }}>
          {r.sentence}
        </Box>
        <p className="sub">
          Allowance for the period {r.figures.balance.allowed}, used {r.figures.balance.used}, left {r.figures.balance.left}. Sampling bounds {percent(r.figures.availability_low_percent)} to{' '}
          {percent(r.figures.availability_high_percent)}. Measured {r.figures.coverage_percent} % of the time it should be.
        </p>
        <Box sx={{ margin: '22px 0 6px' }}>
          <Strip intervals={r.intervals} axis={axis} label={r.words} />
          <Days from={axis.from} to={axis.to} zone={r.timezone} />
          <Legend />
        </Box>
        {r.credit_words && <p className="sub">{r.credit_words}</p>}
        {r.frozen_words && <p className="sub">{r.frozen_words}</p>}
        {r.standing_words && <p className="sub">{r.standing_words}</p>}
        <Sections of={r.sections} />
        {r.digest && <Box component="p" className="sub" sx={{ wordBreak: 'break-all' }}>SHA-256 of content and inputs: {r.digest}</Box>}
        {r.seal && (
          <p className="sub" data-seal>
            Number {r.seal.number} in the chain of {r.customer || 'internal reports'}, code <b>{r.seal.code}</b>: keep it, and no other history can be told of what was published up to it.{' '}
            {r.seal.key ? `Signed with the key ${r.seal.key}.` : 'Not signed: the server had no key file.'}
          </p>
        )}
      </article>
      <Said report={r} />
      {r.may.answer && (
        <details className="more said no-print" onToggle={(e) => setSharing(e.currentTarget.open)}>
          <summary>Links for readers without an account</summary>
          {sharing && (
            <Suspense fallback={null}>
              <Links report={r.id} />
            </Suspense>
          )}
        </details>
      )}
    </>
  )
}

function Days({ from, to, zone }: { from: number; to: number; zone: string }) {
  const marks = ticks({ from, to }, zone)
  return (
    <Box sx={{ position: 'relative', height: '16px', fontSize: '0.7rem', color: 'var(--mui-palette-text-secondary)' }} aria-hidden>
      {marks.map((d, i) => (
        <Box component="span" key={d.at} sx={{ position: 'absolute', left: `${((d.at - from) / (to - from)) * 100}%`, width: `${(((marks[i + 1]?.at ?? to) - d.at) / (to - from)) * 100}%`, textAlign: 'center', overflow: 'hidden' }}>
          {d.text}
        </Box>
      ))}
    </Box>
  )
}

/** A number that tells one text from another, for a remark has no revisions. */
const told = (text: string) => [...text].reduce((h, c) => (Math.imul(h, 31) + (c.codePointAt(0) ?? 0)) | 0, 7)

function Actions({ report: r }: { report: Schemas['ReportPage'] }) {
  const navigate = useNavigate()
  const [asking, setAsking] = useState(false)
  const [dropping, setDropping] = useState(false)
  const fresh = { remark: r.remark }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, told(r.remark), { draft: `reports/${r.id}` })
  const remark = form.watch('remark')
  const path = { params: { path: { id: r.id } } }
  const keepRemark = useChange({ mutationFn: () => ask(api.PUT('/api/v1/reports/{id}', { ...path, body: { remark, was: r.remark } })), again: 'all' })
  const publish = useChange({
    mutationFn: () => ask(api.POST('/api/v1/reports/{id}/publish', { ...path, body: { seen: r.seen ?? '' } })),
    again: 'all',
    onSettled: () => setAsking(false),
  })
  const drop = useChange({
    mutationFn: () => ask(api.DELETE('/api/v1/reports/{id}', path)),
    again: 'all',
    onSuccess: () => navigate('/reports'),
    onSettled: () => setDropping(false),
  })
  const may = useMay()('publish')
  const draft = r.state === 'draft'
  return (
    <>
      <Box className="head no-print" sx={{ maxWidth: '820px' }}>
        <div className="sub">
          <Link to="/reports">Reports</Link> · <b>{r.state}</b>
          {draft && ': read it, add a remark if it needs one, then publish'}
        </div>
        <div className="actions">
          {(['pdf', 'html', 'xlsx', 'json', 'csv', 'inputs', ...(r.seal ? (['evidence'] as const) : [])] as const).map((f) => (
            <a key={f} className="link" href={`/api/v1/reports/${r.id}/document?format=${f}`} download>
              {f === 'inputs' ? 'inputs' : f === 'evidence' ? 'evidence archive' : f.toUpperCase()}
            </a>
          ))}
          {draft && may && (
            <>
              <Button variant="text" onClick={() => setDropping(true)}>
                Throw away
              </Button>
              <Button variant="contained" disabled={remark !== r.remark || r.approval?.current === false || !r.may.publish} title={remark !== r.remark ? 'Keep the remark first, so that you read what is published' : r.approval?.current === false ? 'It has to be approved first' : !r.may.publish ? 'You have approved it; somebody else publishes it' : undefined} onClick={() => setAsking(true)}>
                Publish
              </Button>
            </>
          )}
        </div>
      </Box>
      <Trouble error={publish.error ?? drop.error ?? keepRemark.error} />
      {draft && may && <KeptNote kept={kept} />}
      {draft && may && (
        <Box className="no-print" sx={{ maxWidth: '820px', marginBottom: '18px', display: 'flex', gap: '12px', alignItems: 'end' }}>
          <TextField label="Remark to the customer" multiline value={remark} onChange={(e) => form.setValue('remark', e.target.value)} />
          <Button disabled={remark === r.remark || keepRemark.isPending} onClick={() => keepRemark.mutate()}>
            Keep
          </Button>
        </Box>
      )}
      <Confirm
        open={dropping}
        title={`Throw the draft of ${r.name}, ${r.words}, away?`}
        text="It is gone then, with its remark. Nothing that was published changes, and the period can be drafted again."
        act="Throw the draft away"
        busy={drop.isPending}
        onYes={() => drop.mutate()}
        onNo={() => setDropping(false)}
      />
      <Confirm
        open={asking}
        title={`Publish ${r.name}, ${r.words}?`}
        text={`It says: ${r.sentence} From then on it is frozen with its inputs: a correction is a new report beside it.`}
        act="Publish"
        busy={publish.isPending}
        onYes={() => publish.mutate()}
        onNo={() => setAsking(false)}
      />
    </>
  )
}
