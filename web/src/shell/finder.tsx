import Dialog from '@mui/material/Dialog'
import TextField from '@mui/material/TextField'
import { useMemo, useState } from 'react'
import { useNavigate } from 'react-router'
import { useAgreements, useMay, useReports, useServices } from '../api/queries'
import { usePartyName } from '../parts/party'
import { useKeep } from '../time/span'

type Hit = { name: string; kind: string; path: string }

/** Finds services, agreements, reports and areas by name. */
export function Finder({ areas, onClose }: { areas: readonly { path: string; name: string }[]; onClose: () => void }) {
  const [text, setText] = useState('')
  const [chosen, setChosen] = useState(0)
  const navigate = useNavigate()
  const keep = useKeep()
  const may = useMay()
  const [see, define, administer] = [may('see'), may('define'), may('administer')]
  const services = useServices(see)
  const agreements = useAgreements(see)
  const customer = usePartyName('customer')
  const reports = useReports()
  const all = useMemo<Hit[]>(
    () => [
      ...(services.data ?? []).filter((s) => !s.retired).map((s) => ({ name: s.spec.name, kind: 'service', path: `/services/${s.id}` })),
      ...(agreements.data ?? []).filter((a) => !a.retired).map((a) => ({ name: `${a.spec.name}${a.spec.customer ? `, ${customer(a.spec.customer)}` : ''}`, kind: 'agreement', path: `/agreements/${a.id}` })),
      ...(reports.data ?? []).map((r) => ({ name: `${r.name}, ${r.words}`, kind: 'report', path: `/reports/${r.id}` })),
      ...areas.map((a) => ({ name: a.name, kind: 'area', path: a.path })),
      ...(define
        ? [
            { name: 'Describe a service', kind: 'action', path: '/services/new' },
            { name: 'Write down an agreement', kind: 'action', path: '/agreements/new' },
          ]
        : []),
      ...(administer ? [{ name: 'People', kind: 'area', path: '/set-up/people' }] : []),
    ],
    [services.data, agreements.data, reports.data, areas, customer, define, administer],
  )
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const hits = all.filter((h) => words.every((w) => `${h.name} ${h.kind}`.toLowerCase().includes(w))).slice(0, 9)
  const go = (hit: Hit | undefined) => {
    if (!hit) return
    onClose()
    void navigate(keep(hit.path))
  }
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-label="Find" sx={{ '& .MuiDialog-container': { alignItems: 'flex-start' } }}>
      <div style={{ padding: 16 }}>
        <TextField
          autoFocus
          placeholder="Name of a service, agreement, report or area"
          value={text}
          slotProps={{ htmlInput: { 'aria-label': 'Find', 'aria-controls': 'hits' } }}
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
        <div id="hits" role="listbox" aria-label="Found" style={{ marginTop: 8 }}>
          {hits.map((h, i) => (
            <div
              key={h.path + h.name}
              role="option"
              aria-selected={i === chosen}
              onClick={() => go(h)}
              style={{ display: 'flex', justifyContent: 'space-between', padding: '6px 8px', cursor: 'pointer', background: i === chosen ? 'var(--faint)' : undefined }}
            >
              <span>{h.name}</span>
              <span className="sub">{h.kind}</span>
            </div>
          ))}
          {hits.length === 0 && <p className="sub">Nothing has that name.</p>}
        </div>
      </div>
    </Dialog>
  )
}
