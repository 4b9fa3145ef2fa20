import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import { Link, useLocation } from 'react-router'
import { useKeep } from '../time/span'

const pages = [
  { path: '/notices', name: 'Duty' },
  { path: '/notices/plans', name: 'Plans' },
  { path: '/notices/rehearsal', name: 'Rehearsal' },
  { path: '/notices/deliveries', name: 'Deliveries' },
]

/** The pages of Notices. */
export function NoticesNav() {
  const here = useLocation().pathname
  const keep = useKeep()
  const current = [...pages].reverse().find((p) => here === p.path || here.startsWith(p.path + '/'))?.path ?? false
  return (
    <Tabs component="nav" role={undefined} aria-label="Notices" value={current} variant="scrollable" scrollButtons="auto" allowScrollButtonsMobile slotProps={{ list: { role: 'presentation' } }}>
      {pages.map((p) => (
        <Tab key={p.path} role={undefined} component={Link} to={keep(p.path)} value={p.path} label={p.name} aria-selected={undefined} aria-current={p.path === current ? 'page' : undefined} tabIndex={0} />
      ))}
    </Tabs>
  )
}
