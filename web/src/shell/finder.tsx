import Box from '@mui/material/Box'
import Dialog from '@mui/material/Dialog'
import DialogTitle from '@mui/material/DialogTitle'
import TextField from '@mui/material/TextField'
import { useMemo, useState } from 'react'
import { useNavigate } from 'react-router'
import { useAgreements, useChecks, useLocations, useMay, useReports, useServices } from '../api/queries'
import { useWindows } from '../calendar/queries'
import { usePartyName } from '../parts/party'
import { useKeep } from '../time/span'
import { setupPages } from '../setup/pages'

/** also is what it is found by beside its name. */
type Hit = { name: string; kind: string; path: string; also?: string }

/** The pages that are no areas, and what they need. */
const pages = [
  { name: 'Checks', path: '/checks', needs: 'see' },
  ...setupPages,
  { name: 'Dependencies', path: '/services/dependencies', needs: 'see' },
  { name: 'Calendars out and in', path: '/calendar/exchange', needs: 'see' },
  { name: 'Suppose it fails', path: '/services/suppose', needs: 'see' },
  { name: 'Notice plans', path: '/notices/plans', needs: 'see' },
  { name: 'Rehearsal', path: '/notices/rehearsal', needs: 'see' },
  { name: 'Deliveries', path: '/notices/deliveries', needs: 'see' },
  { name: 'Inbox', path: '/you/inbox', needs: 'see' },
  { name: 'Your account', path: '/you', needs: 'own' },
] as const

const actions = [
  { name: 'Describe a service', path: '/services/new', needs: 'define' },
  { name: 'Describe many services at once', path: '/services/many', needs: 'define' },
  { name: 'Write down an agreement', path: '/agreements/new', needs: 'define' },
  { name: 'Add a notice plan', path: '/notices/plans/new', needs: 'define' },
  { name: 'Plan pairs', path: '/set-up/pairs/new', needs: 'define' },
  { name: 'Plan work', path: '/calendar/plan', needs: 'operate' },
] as const

/** Finds services, checks, agreements, reports, locations, planned work, pages and actions by name, checks by their target too. */
export function Finder({ areas, onClose }: { areas: readonly { path: string; name: string }[]; onClose: () => void }) {
  const [text, setText] = useState('')
  const [chosen, setChosen] = useState(0)
  const navigate = useNavigate()
  const keep = useKeep()
  const may = useMay()
  const [see, define] = [may('see'), may('define')]
  const checks = useChecks(see)
  const locations = useLocations(see)
  const services = useServices(see)
  const agreements = useAgreements(see)
  const customer = usePartyName('customer')
  const reports = useReports()
  const windows = useWindows(see)
  const all = useMemo<Hit[]>(
    () => [
      ...(services.data ?? []).filter((s) => !s.retired).map((s) => ({ name: s.spec.name, kind: 'service', path: `/services/${s.id}` })),
      ...(checks.data ?? []).filter((c) => !c.retired).map((c) => ({ name: c.spec.name, kind: 'check', path: `/checks/${c.id}`, also: `${c.spec.target} ${c.spec.service}` })),
      ...(locations.data ?? []).filter((l) => !l.retired).map((l) => ({ name: l.spec.name, kind: 'location', path: '/set-up', also: `${l.spec.address ?? ''} ${l.spec.region ?? ''}` })),
      ...(agreements.data ?? []).filter((a) => !a.retired).map((a) => ({ name: `${a.spec.name}${a.spec.customer ? `, ${customer(a.spec.customer)}` : ''}`, kind: 'agreement', path: `/agreements/${a.id}` })),
      ...(reports.data ?? []).map((r) => ({ name: `${r.name}, ${r.words}`, kind: 'report', path: `/reports/${r.id}` })),
      ...(windows.data ?? []).filter((w) => !w.retired).map((w) => ({ name: w.spec.name, kind: 'planned work', path: `/calendar/plan/${w.id}`, also: w.spec.reference })),
      ...areas.map((a) => ({ name: a.name, kind: 'area', path: a.path })),
      ...pages.filter((p) => may(p.needs)).map((p) => ({ ...p, kind: 'page' })),
      ...actions.filter((a) => may(a.needs)).map((a) => ({ ...a, kind: 'action' })),
    ],
    // What they may changes with who they are alone.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [services.data, checks.data, locations.data, agreements.data, reports.data, windows.data, areas, customer, see, define],
  )
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const matches = all.filter((h) => words.every((w) => `${h.name} ${h.kind} ${h.also ?? ''}`.toLowerCase().includes(w)))
  // What is called so stands before what is found by something else.
  const called = (h: Hit) => words.every((w) => h.name.toLowerCase().includes(w))
  const hits = [...matches.filter(called), ...matches.filter((h) => !called(h))].slice(0, 9)
  const go = (hit: Hit | undefined) => {
    if (!hit) return
    onClose()
    void navigate(keep(hit.path))
  }
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" sx={{ '& .MuiDialog-container': { alignItems: 'flex-start' } }}>
      <DialogTitle className="unseen">Find</DialogTitle>
      <Box sx={{ padding: '16px' }}>
        <TextField
          autoFocus
          placeholder="Name of a service, check, agreement, report, location, planned work or page"
          value={text}
          slotProps={{ htmlInput: { 'aria-label': 'Find', role: 'combobox', 'aria-controls': 'hits', 'aria-expanded': hits.length > 0, 'aria-autocomplete': 'list', 'aria-activedescendant': hits.length > 0 ? `hit-${chosen}` : undefined } }}
          onChange={(e) => {
            setText(e.target.value)
            setChosen(0)
          }}
          onKeyDown={(e) => {
            if (e.key === 'ArrowDown') setChosen(Math.min(chosen + 1, hits.length - 1))
            else if (e.key === 'ArrowUp') setChosen(Math.max(chosen - 1, 0))
            else if (e.key === 'Enter') go(hits[chosen])
            else return
            e.preventDefault()
          }}
        />
        <Box id="hits" role="listbox" aria-label="Found" sx={{ marginTop: '8px' }}>
          {hits.map((h, i) => (
            <Box
              key={h.kind + h.path + h.name}
              id={`hit-${i}`}
              role="option"
              aria-selected={i === chosen}
              onClick={() => go(h)}
              sx={{ display: 'flex', justifyContent: 'space-between', padding: '6px 8px', cursor: 'pointer', background: i === chosen ? 'var(--faint)' : undefined }}
>
              <span>
                {h.name}
                {h.also && !called(h) && <span className="sub"> {h.also.trim()}</span>}
              </span>
              <span className="sub">{h.kind}</span>
            </Box>
          ))}
          {hits.length === 0 && <p className="sub">Nothing has that name.</p>}
        </Box>
      </Box>
    </Dialog>
  )
}
