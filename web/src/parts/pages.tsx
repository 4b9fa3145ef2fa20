import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import { Link, useLocation } from 'react-router'
import { useKeep } from '../time/span'

/** The pages of an area, of which one is shown. */
export function Pages({ area, pages }: { area: string; pages: { path: string; name: string }[] }) {
  const here = useLocation().pathname
  const keep = useKeep()
  const current = [...pages].reverse().find((p) => here === p.path || here.startsWith(p.path + '/'))?.path ?? false
  return (
    <Tabs component="nav" role={undefined} aria-label={area} value={current} variant="scrollable" scrollButtons="auto" allowScrollButtonsMobile slotProps={{ list: { role: 'presentation' } }}>
      {pages.map((p) => (
        <Tab key={p.path} role={undefined} component={Link} to={keep(p.path)} value={p.path} label={p.name} aria-selected={undefined} aria-current={p.path === current ? 'page' : undefined} tabIndex={0} />
      ))}
    </Tabs>
  )
}
