import Box from '@mui/material/Box'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { useMay, useStandInMessages, useStandIns } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { clock } from '../time/format'
import { useZone } from '../time/span'

const words: Record<string, string> = {
  ok: 'answers',
  slow: 'answers slowly',
  wrong: 'answers wrongly',
  silent: 'does not answer',
  refused: 'refuses connections',
  detour: 'takes a detour',
  lossy: 'loses packets',
  'silent hop': 'one hop is silent',
  prohibited: 'is prohibited at its last router',
  jittery: 'holds packets back',
}

/** What arrived at the receivers, the latest first. */
function Arrived() {
  const messages = useStandInMessages()
  const { zone } = useZone()
  const list = messages.data ?? []
  return (
    <section aria-label="What arrived">
      <Typography variant="h2" className="group">
        What arrived {list.length > 0 && <span className="sub">{list.length}</span>}
      </Typography>
      <Trouble error={messages.error} />
      {list.length === 0 && <p className="sub">No message has arrived at the post, the desk or the collector since the demo was started.</p>}
      {list.slice(0, 30).map((m, i) => (
        <div key={i} className="entry" data-message={m.method}>
          <div className="name">{m.subject || m.text.split('\n')[0]}</div>
          <div className="sub">
            {m.method} to {m.to} · {clock(m.at, zone)}
          </div>
          {m.method !== 'syslog' && m.subject && <div className="as-written">{m.text}</div>}
        </div>
      ))}
    </section>
  )
}

/** The demo's simulated outside world, to be broken and mended. */
export function StandIns() {
  const all = useStandIns()
  const steer = useChange({
    mutationFn: ({ id, mode }: { id: string; mode: string }) => ask(api.PUT('/api/v1/stand-ins/{id}', { params: { path: { id } }, body: { mode } })),
    again: ['stand-ins'],
  })
  const may = useMay()('operate')
  return (
    <>
      <div className="head">
        <Typography variant="h1">Stand-ins</Typography>
      </div>
      <Box component="p" className="lead" sx={{ maxWidth: '620px' }}>
        The demo measures these small simulated services and hosts for real. Make one misbehave, and watch Standing: an outage is believed after two failed measurements, which takes up to a minute here.
      </Box>
      <Trouble error={all.error ?? steer.error} />
      <Table  sx={{ maxWidth: '1060px' }}>
        <TableHead>
          <TableRow>
            <TableCell>Name</TableCell>
            <TableCell>Address</TableCell>
            <TableCell>What it does</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {all.data?.map((s) => (
            <TableRow key={s.id} data-stand-in={s.id}>
              <TableCell sx={{ fontWeight: 600, whiteSpace: 'nowrap' }}>{s.name}</TableCell>
              <TableCell className="sub">{s.where}</TableCell>
              <TableCell>
                {s.modes.map((m) => (
                  <Box component="label" key={m} sx={{ marginRight: '13px', whiteSpace: 'nowrap', fontWeight: m === s.mode ? 600 : 400 }}>
                    <input type="radio" name={s.id} value={m} checked={m === s.mode} disabled={!may || steer.isPending} onChange={() => steer.mutate({ id: s.id, mode: m })} /> {words[m] ?? m}
                  </Box>
                ))}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <Arrived />
    </>
  )
}
