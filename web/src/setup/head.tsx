import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import { Link, useLocation } from 'react-router'
import { useMay } from '../api/queries'
import { setupPages } from './pages'

/** The pages of Set-up. */
export function SetupHead({ title, children }: { title: string; children?: React.ReactNode }) {
  const may = useMay()
  const here = useLocation().pathname
  const shown = setupPages.filter((p) => may(p.needs))
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
