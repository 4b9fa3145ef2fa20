import { NavLink } from 'react-router'
import { useMay } from '../api/queries'

/** The pages of Set-up. */
export function SetupHead({ title, children }: { title: string; children?: React.ReactNode }) {
  const may = useMay()
  const tab = ({ isActive }: { isActive: boolean }) => ({ marginRight: 18, fontWeight: isActive ? 600 : 400, textDecoration: isActive ? 'underline' : 'none', textUnderlineOffset: 5 })
  return (
    <>
      <nav aria-label="Set-up" style={{ paddingTop: 22, display: 'flex', flexWrap: 'wrap', rowGap: 6 }}>
        <NavLink to="/set-up" end style={tab}>
          Locations
        </NavLink>
        <NavLink to="/set-up/pairs" style={tab}>
          Pairs
        </NavLink>
        <NavLink to="/set-up/kits" style={tab}>
          Kits
        </NavLink>
        <NavLink to="/set-up/networks" style={tab}>
          Networks
        </NavLink>
        <NavLink to="/set-up/credentials" style={tab}>
          Credentials
        </NavLink>
        <NavLink to="/set-up/teams" style={tab}>
          Teams
        </NavLink>
        <NavLink to="/set-up/customers" style={tab}>
          Customers
        </NavLink>
        <NavLink to="/set-up/contracts" style={tab}>
          Contracts
        </NavLink>
        <NavLink to="/set-up/holidays" style={tab}>
          Holidays
        </NavLink>
        {may('administer') && (
          <NavLink to="/set-up/people" style={tab}>
            People
          </NavLink>
        )}
        {may('audit') && (
          <NavLink to="/set-up/trail" style={tab}>
            Trail
          </NavLink>
        )}
      </nav>
      <div className="head" style={{ marginTop: 16 }}>
        <h1 style={{ margin: 0 }}>{title}</h1>
        <div className="actions">{children}</div>
      </div>
    </>
  )
}
