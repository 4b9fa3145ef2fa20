import Autocomplete from '@mui/material/Autocomplete'
import Button from '@mui/material/Button'
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
import { api, ask, type Schemas } from '../api/client'
import { useAgreements, useMay } from '../api/queries'
import { counted } from '../parts/counted'
import { FilePick } from '../parts/file-pick'
import { ServicesPick } from '../parts/services-pick'
import { Trouble } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { useGo } from './go'
import { useFeeds } from './queries'
import './calendar.css'

/** Planned work out to other calendars, and in from them. */
export function ExchangePage() {
  const go = useGo()
  const may = useMay()('operate')
  return (
    <>
      <div className="head">
        <Typography variant="h1">Calendars out and in</Typography>
      </div>
      <p className="lead">
        Planned work as iCalendar, which other calendars read and write. <Link to={go('/calendar', {})}>Back to the Calendar</Link>
      </p>
      <Feeds />
      {may && <Import />}
    </>
  )
}

/** Subscriptions: each an address that anybody who has it can read. */
function Feeds() {
  const { zone } = useZone()
  const feeds = useFeeds()
  const [name, setName] = useState('')
  const [services, setServices] = useState<string[]>([])
  const [promised, setPromised] = useState<string[]>([])
  const agreements = (useAgreements().data ?? []).filter((a) => !a.retired)
  const make = useChange({
    mutationFn: () => ask(api.POST('/api/v1/calendar-feeds', { body: { name, services: services.length ? services : undefined, agreements: promised.length ? promised : undefined } })),
    again: ['calendar-feeds'],
    onSuccess: () => {
      setName('')
      setServices([])
      setPromised([])
    },
  })
  const end = useChange({ mutationFn: (id: string) => ask(api.DELETE('/api/v1/calendar-feeds/{id}', { params: { path: { id } } })), again: ['calendar-feeds'] })
  return (
    <section aria-label="Out">
      <Typography variant="h2" className="group">
        Out
      </Typography>
      <p className="sub">
        A calendar that subscribes to a feed follows what is planned, moved and cancelled. Whoever has its address can read it, without a password, until you end it. Or{' '}
        <a href="/api/v1/windows.ics" download>
          download all of it now
        </a>
        .
      </p>
      <form
        className="in-a-row"
        aria-label="Make a feed"
        onSubmit={(e) => {
          e.preventDefault()
          make.mutate()
        }}
      >
        <TextField label="Name of the feed" required value={name} slotProps={{ htmlInput: { maxLength: 120 } }} onChange={(e) => setName(e.target.value)} sx={{ width: 220 }} />
        <ServicesPick label="Work on" help={promised.length ? 'and on what these agreements are about' : 'none: on all services'} value={services} change={setServices} />
        <Autocomplete
          multiple
          options={agreements.map((a) => a.id)}
          value={promised}
          getOptionLabel={(id) => agreements.find((a) => a.id === id)?.spec.name ?? id}
          noOptionsText="No agreement of that name"
          size="small"
          sx={{ minWidth: 240 }}
          onChange={(_, list) => setPromised(list)}
          renderInput={(p) => <TextField {...p} label="Or on what is promised by" />}
        />
        <Button type="submit" variant="contained" sx={{ height: 40 }} disabled={make.isPending}>
          Make a feed
        </Button>
      </form>
      <Trouble error={make.error ?? end.error ?? feeds.error} />
      {make.data && (
        <div className="handed" role="status" data-feed-address>
          <p>Its address, which is shown this once. Give it to the calendar that is to subscribe:</p>
          <code className="command">{location.origin + make.data.path}</code>
        </div>
      )}
      {(feeds.data ?? []).map((f) => (
        <div key={f.id} className="entry low feed" data-feed={f.name}>
          <span>
            <b>{f.name}</b> <span className="sub">{f.services.length ? f.services.map((s) => s.name).join(', ') : 'all services'}</span>
          </span>
          <span className="sub">
            {f.used_at ? `read ${shortTime(f.used_at, zone)}` : 'never read'} ·{' '}
            <button type="button" className="link" onClick={() => end.mutate(f.id)}>
              end it
            </button>
          </span>
        </div>
      ))}
    </section>
  )
}

const did: Record<Schemas['ImportedView']['does'], string> = { make: 'new', edit: 'changed', cancel: 'cancelled', unchanged: 'as it is', older: 'older than ours', refused: 'refused' }

/** Windows of somebody else's calendar: looked at first, then taken. */
function Import() {
  const [services, setServices] = useState<string[]>([])
  const [file, setFile] = useState<{ name: string; text: string }>()
  const run = useChange({
    mutationFn: (a: { text: string; services: string[]; preview: boolean; reason?: string }) =>
      ask(api.POST('/api/v1/windows/import', { body: { text: a.text, services: a.services.length ? a.services : undefined, preview: a.preview, reason: a.reason || undefined } })),
    again: (v) => (v.done ? 'all' : undefined),
  })
  const [reason, setReason] = useState('')
  const look = (text: string, of: string[], why = reason) => run.mutate({ text, services: of, preview: true, reason: why })
  const v = run.data
  const does = (v?.items ?? []).filter((i) => ['make', 'edit', 'cancel'].includes(i.does)).length
  return (
    <section aria-label="In">
      <Typography variant="h2" className="group">
        In
      </Typography>
      <p className="sub">What you take counts as announced now. An event that comes again edits its window; one that is cancelled ends it. Nothing is done before you have seen what would be.</p>
      <div className="in-a-row">
        <FilePick
          label="Choose an iCalendar file"
          accept=".ics,text/calendar"
          taken={(chosen) => {
            setFile(chosen)
            look(chosen.text, services)
          }}
        />
        <ServicesPick
          label="For"
          help="where an event names none of ours"
          value={services}
          change={(ids) => {
            setServices(ids)
            if (file) look(file.text, ids)
          }}
        />
      </div>
      <Trouble error={run.error} />
      {file && v && (
        <>
          <p role="status" data-import={v.done ? 'done' : 'preview'}>
            {v.done ? `Of ${file.name}, ${counted(does, 'window was', 'windows were')} made, changed or cancelled.` : `Of ${file.name}, ${counted(does, 'window', 'windows')} would be made, changed or cancelled.`}
          </p>
          <Table sx={{ maxWidth: 980 }} tabIndex={0} aria-label="What becomes of each event">
            <TableHead>
              <TableRow>
                <TableCell>Event</TableCell>
                <TableCell>When</TableCell>
                <TableCell>On</TableCell>
                <TableCell>What becomes of it</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {v.items.map((i) => (
                <TableRow key={i.uid} data-imported={i.does}>
                  <TableCell>{i.name}</TableCell>
                  <TableCell>{i.words}</TableCell>
                  <TableCell>{i.services.map((s) => s.name).join(', ')}</TableCell>
                  <TableCell>
                    <b className={i.does === 'refused' ? 'word-down' : ['make', 'edit', 'cancel'].includes(i.does) ? 'word-up' : 'word-outside'}>{did[i.does]}</b> <span className="sub">{i.why}</span>
                  </TableCell>
                </TableRow>
              ))}
              {v.left.map((l, n) => (
                <TableRow key={`left ${n}`} data-imported="left">
                  <TableCell>{l.name}</TableCell>
                  <TableCell colSpan={2} />
                  <TableCell>
                    <b className="word-down">left out</b> <span className="sub">{l.why}</span>
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          {!v.done && (reason !== '' || v.items.some((i) => i.why?.startsWith('reason'))) && (
            <TextField label="Why what lies in an embargo has to be then" value={reason} sx={{ mt: 1.5, width: 420 }} onChange={(e) => setReason(e.target.value)} onBlur={() => look(file.text, services)} />
          )}
          {!v.done && does > 0 && (
            <div className="in-a-row">
              <Button variant="contained" disabled={run.isPending} onClick={() => run.mutate({ text: file.text, services, preview: false, reason })}>
                Take {counted(does, 'window', 'windows')}
              </Button>
              <Button
                variant="text"
                onClick={() => {
                  setFile(undefined)
                  run.reset()
                }}
              >
                Leave it
              </Button>
            </div>
          )}
        </>
      )}
    </section>
  )
}
