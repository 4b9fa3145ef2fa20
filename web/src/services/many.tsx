import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Link } from 'react-router'
import { useChange } from '../api/changes'
import { Problem, api, ask, type Schemas } from '../api/client'
import { useLocations, useMayDefine, useServices } from '../api/queries'
import { useForm } from '../parts/form'
import { KeptNote, useKept } from '../parts/kept'
import { useKeys } from '../parts/key'
import { Trouble } from '../parts/trouble'
import { duration } from '../time/format'
import { leading } from './kinds'
import { parse, type Line } from './lines'
import { OwnHost } from './own-host'
import { useTaking } from './schedule'
import { useTrials } from './queries'
import { stateOf } from './try-now'

type Candidate = Schemas['Candidate']
type Trial = Schemas['TrialView']
type Pasted = { text: string; chosen: string[] | undefined; interval: number }
type Found = { line: Line; candidates: Candidate[]; error?: string }

const example = `Ticket sales, https://tickets.skerry.example, 99.9
Freight desk, freight.skerry.example:8443
Roster, 198.18.4.20`

/** Hundreds of addresses at once: what answers is proposed, looked over on one page, and measured. */
export function ManyServices() {
  const places = useLocations()
  const services = useServices()
  const may = useMayDefine()
  const fresh: Pasted = { text: '', chosen: undefined, interval: 60 }
  const form = useForm<Pasted>({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: 'services/many' })
  const { text, chosen, interval } = form.watch()
  const [found, setFound] = useState<Found[] | undefined>()
  const [off, setOff] = useState<Record<string, boolean>>({})
  const [done, setDone] = useState<Record<string, string>>({})
  const live = (places.data ?? []).filter((l) => !l.retired)
  const locations = chosen ?? live.map((l) => l.id)
  const { lines, wrong } = parse(text)

  const look = useChange({
    mutationFn: async () => {
      const out: Found[] = lines.map((line) => ({ line, candidates: [] }))
      setDone({})
      let next = 0
      const work = async () => {
        for (let i = next++; i < out.length; i = next++) {
          const f = out[i] as Found
          try {
            f.candidates = (await ask(api.POST('/api/v1/proposals', { body: { address: f.line.address, locations } }))).items
          } catch (e) {
            f.error = e instanceof Problem ? (e.fields.address ?? e.message) : String(e)
          }
          setFound([...out])
        }
      }
      await Promise.all([work(), work(), work(), work()])
    },
  })
  // Two addresses of one host share their ping: one trial, named twice.
  const ids = look.isPending ? [] : [...new Set((found ?? []).flatMap((f) => f.candidates.flatMap((c) => c.trials.map((t) => t.id))))]
  const trials = useTrials(ids)
  const byID = new Map((trials.data ?? []).map((t) => [t.id, t]))
  const results = (c: Candidate) => c.trials.map((t) => byID.get(t.id)).filter((t): t is Trial => t !== undefined)
  const settled = ids.length > 0 && trials.data?.length === ids.length && trials.data.every((t) => t.state === 'done' || t.state === 'lost')
  const answers = (c: Candidate) => results(c).some((t) => t.outcome === 'ok' || t.outcome === 'degraded')
  const key = (f: Found, c: Candidate) => `${f.line.number} ${c.kind} ${c.target}`
  const takes = (f: Found, c: Candidate) => (key(f, c) in off ? !off[key(f, c)] : answers(c))
  const wanted = (found ?? []).map((f) => ({ f, picked: f.candidates.filter((c) => takes(f, c)) })).filter((w) => w.picked.length > 0)
  const taken = (c: Candidate) => ({ kind: c.kind, name: c.name, target: c.target, tried: results(c).flatMap((t) => (t.measures ? [t.measures] : [])) })
  const all = settled ? (found ?? []).flatMap((f) => f.candidates) : []
  const would = useTaking(all.length ? { taken: all.map(taken), interval_s: interval, locations } : undefined)
  const suggested = new Map(all.map((c, i) => [c, would.data?.checks[i]?.suggested]))
  const checks = wanted.flatMap((w) => w.picked)
  const targets = wanted.flatMap((w) => (w.f.line.target ? [w.f.line.target] : [])).sort((a, b) => Number(b) - Number(a))
  const total = useTaking(checks.length ? { taken: checks.map((c) => ({ ...taken(c), tried: [] })), interval_s: interval, locations, target_percent: targets[0] } : undefined)

  const keyOf = useKeys()
  const save = useChange({
    mutationFn: async () => {
      let whole = true
      for (const { f, picked } of wanted) {
        const line = f.line
        if (done[line.number] === 'measured') continue
        try {
          const known = services.data?.find((s) => !s.retired && s.spec.name === line.name)
          const body = {
            service: known?.id,
            name: known ? undefined : line.name,
            taken: picked.map(taken),
            interval_s: interval,
            locations,
            promised: line.target ? { target_percent: line.target } : undefined,
          }
          await ask(api.POST('/api/v1/proposals/take', { body: { ...body, key: keyOf(line.number, body) } }))
          setDone((d) => ({ ...d, [line.number]: 'measured' }))
        } catch (e) {
          const why = e instanceof Problem ? Object.values(e.fields).join('; ') || e.message : String(e)
          setDone((d) => ({ ...d, [line.number]: why }))
          whole = false
        }
      }
      if (whole) kept.done()
    },
    again: 'all',
  })
  const measured = Object.values(done).filter((d) => d === 'measured').length
  if (!may) return <div className="empty">A manager can describe services.</div>
  return (
    <>
      <div className="head">
        <Typography variant="h1">Many services at once</Typography>
      </div>
      <Box className="form" sx={{ maxWidth: '860px' }}>
        <KeptNote kept={kept} />
        <TextField
          label="One service a line: name, address, target in percent if one was promised"
          multiline
          minRows={5}
          maxRows={14}
          autoFocus
          placeholder={example}
          value={text}
          onChange={(e) => form.setValue('text', e.target.value)}
          error={wrong.length > 0}
          helperText="An address alone will do. Tabs, semicolons or commas part the columns; a first line of headings is left out."
        />
        {wrong.length > 0 && (
          <div className="trouble" role="status" data-wrong={wrong.length}>
            {wrong.map((w) => (
              <div key={w.number}>
                {w.number > 0 && `Line ${w.number}: `}
                {w.text}
              </div>
            ))}
            {lines.length > 0 && <div className="sub">{lines.length === 1 ? 'The other line' : `The other ${lines.length} lines`} can go on without {wrong.length === 1 ? 'it' : 'them'}.</div>}
          </div>
        )}
        <div>
          {live.map((l) => (
            <FormControlLabel
              key={l.id}
              label={l.spec.name}
              control={<Checkbox size="small" checked={locations.includes(l.id)} onChange={(_, on) => form.setValue('chosen', on ? [...locations, l.id] : locations.filter((x) => x !== l.id))} />}
            />
          ))}
        </div>
        <div>
          <Button variant={found ? 'outlined' : 'contained'} disabled={lines.length === 0 || locations.length === 0 || look.isPending} onClick={() => look.mutate()}>
            {look.isPending ? `Asking ${(found ?? []).filter((f) => f.candidates.length > 0 || f.error).length} of ${lines.length} …` : `See what answers at ${lines.length || 'the'} ${lines.length === 1 ? 'address' : 'addresses'}`}
          </Button>
          {ids.length > 0 && !settled && <span className="sub"> {trials.data?.filter((t) => t.state === 'done').length ?? 0} of {ids.length} trials are in.</span>}
        </div>
      </Box>
      {found && !look.isPending && (
        <>
          <Table className="review" sx={{ marginTop: '24px' }}>
            <TableHead>
              <TableRow>
                <TableCell>Service</TableCell>
                <TableCell>What answers, and its first value</TableCell>
                <TableCell aria-hidden />
              </TableRow>
            </TableHead>
            <TableBody>
              {found.map((f) => (
                <TableRow key={f.line.number} data-line={f.line.number}>
                  <TableCell>
                    {f.line.name}
                    <div className="sub">
                      {f.line.address}
                      {f.line.target && `, ${f.line.target} %`}
                    </div>
                    {services.data?.some((s) => !s.retired && s.spec.name === f.line.name) && <div className="sub">there is a service of that name: checks are added to it</div>}
                  </TableCell>
                  <TableCell>
                    {f.error && <span className="trouble">{f.error}</span>}
                    {f.candidates.map((c) => (
                      <div key={key(f, c)}>
                        <label>
                          <input type="checkbox" checked={takes(f, c)} onChange={(e) => setOff({ ...off, [key(f, c)]: !e.target.checked })} /> {c.name}
                        </label>{' '}
                        <span className="sub">
                          {results(c).map((t) => (
                            <span key={t.id}>
                              {live.find((l) => l.id === t.location)?.spec.name} <span className={`word-${stateOf(t.outcome)}`}>{t.outcome ?? (t.state === 'lost' ? 'lost' : '…')}</span> {leading(c.kind, t.measures)} ·{' '}
                            </span>
                          ))}
                          {suggested.get(c) && `suggested: ${suggested.get(c)}`}
                        </span>
                      </div>
                    ))}
                    <OwnHost target={f.line.address} places={live.filter((l) => locations.includes(l.id))} />
                    {settled && f.candidates.length > 0 && !f.candidates.some(answers) && <div className="trouble">Nothing answers. It is left out unless you choose a check: a target that was never good would only alarm.</div>}
                  </TableCell>
                  <TableCell className={done[f.line.number] && done[f.line.number] !== 'measured' ? 'trouble' : 'sub'}>{done[f.line.number]}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          <Box className="form" sx={{ marginTop: '20px' }}>
            <TextField select label="Measure every" sx={{ maxWidth: 220 }} value={interval} onChange={(e) => form.setValue('interval', Number(e.target.value))}>
              {[10, 20, 30, 60, 120, 300].map((s) => (
                <MenuItem key={s} value={s}>
                  {duration(s * 1000)}
                </MenuItem>
              ))}
            </TextField>
            <div className="consequence sub" data-checks={checks.length}>
              {wanted.length} {wanted.length === 1 ? 'service' : 'services'}, {checks.length} {checks.length === 1 ? 'check' : 'checks'}
              {total.data && `: ${total.data.words}. ${total.data.resolution ?? ''}`}
            </div>
            <Trouble error={save.error ?? look.error} />
            <div>
              <Button variant="contained" disabled={!settled || wanted.length === 0 || save.isPending || measured === wanted.length} onClick={() => save.mutate()}>
                {save.isPending ? `${measured} of ${wanted.length} …` : `Start measuring ${wanted.length} ${wanted.length === 1 ? 'service' : 'services'}`}
              </Button>{' '}
              {measured > 0 && !save.isPending && (
                <span className="sub">
                  {measured} are measured now. <Link to="/services">See them</Link>
                </span>
              )}
            </div>
          </Box>
        </>
      )}
    </>
  )
}
