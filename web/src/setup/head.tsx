import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import { Link, useLocation } from 'react-router'
import { useMay } from '../api/queries'

const pages = [
  { path: '/set-up', name: 'Locations', needs: 'see' },
  { path: '/set-up/pairs', name: 'Pairs', needs: 'see' },
  { path: '/set-up/kits', name: 'Kits', needs: 'see' },
  { path: '/set-up/networks', name: 'Networks', needs: 'see' },
  { path: '/set-up/credentials', name: 'Credentials', needs: 'see' },
  { path: '/set-up/teams', name: 'Teams', needs: 'see' },
  { path: '/set-up/customers', name: 'Customers', needs: 'see' },
  { path: '/set-up/contracts', name: 'Contracts', needs: 'see' },
  { path: '/set-up/holidays', name: 'Holidays', needs: 'see' },
  { path: '/set-up/people', name: 'People', needs: 'administer' },
  { path: '/set-up/trail', name: 'Trail', needs: 'audit' },
] as const

/** The pages of Set-up. */
export function SetupHead({ title, children }: { title: string; children?: React.ReactNode }) {
  const may = useMay()
  const here = useLocation().pathname
  const shown = pages.filter((p) => may(p.needs))
  // A page below one of them, such as a plan of pairs, stands under it.
  const current = [...shown].reverse().find((p) => here === p.path || here.startsWith(p.path + '/'))?.path ?? false
  return (
    <>
      <Tabs component="nav" role={undefined} aria-label="Set-up" value={current} variant="scrollable" scrollButtons="auto" allowScrollButtonsMobile slotProps={{ list: { role: 'presentation' } }}>
        {shown.map((p) => (
          <Tab key={p.path} role={undefined} component={Link} to={p.path} value={p.path} label={p.name} aria-selected={undefined} aria-current={p.path === current ? 'page' : undefined} tabIndex={0} />
        ))}
      </Tabs>
      <div className="head">
        <Typography variant="h1">{title}</Typography>
        <div className="actions">{children}</div>
      </div>
    </>
  )
}
