import { useColorScheme } from '@mui/material/styles'
import { useQueryClient } from '@tanstack/react-query'
import { Suspense, lazy, useEffect, useLayoutEffect, useMemo, useState } from 'react'
import { Link, NavLink, Navigate, Outlet, useLocation, useNavigate } from 'react-router'
import { Problem, api, ask } from '../api/client'
import { useLive } from '../api/live'
import { useMay, useMe } from '../api/queries'
import { Hatches } from '../axis/strip'
import { useInbox } from '../notices/queries'
import { Leaving, forgetDrafts } from '../parts/kept'
import { useHeading } from './heading'
import { ZoneContext, step, useKeep, useSpan } from '../time/span'
import './shell.css'

// Loaded when first asked for: dialogs weigh more than the rest of the shell.
const Finder = lazy(() => import('./finder').then((m) => ({ default: m.Finder })))
const Ring = lazy(() => import('../notices/ring'))
const Keys = lazy(() => import('./keys').then((m) => ({ default: m.Keys })))

/** The areas, and the digit that goes to each. */
const areas = [
  { path: '/', name: 'Standing', key: '1', needs: 'own' },
  { path: '/incidents', name: 'Incidents', key: '3', needs: 'see' },
  { path: '/services', name: 'Services', key: '2', needs: 'see' },
  { path: '/calendar', name: 'Calendar', key: '5', needs: 'see' },
  { path: '/agreements', name: 'Agreements', key: '6', needs: 'see' },
  { path: '/close', name: 'Close', key: '9', needs: 'see' },
  { path: '/reports', name: 'Reports', key: '7', needs: 'own' },
  { path: '/notices', name: 'Notices', key: '8', needs: 'see' },
  { path: '/set-up', name: 'Set-up', key: '0', needs: 'see' },
  { path: '/stand-ins', name: 'Stand-ins', key: '', needs: 'see' },
] as const

/** What customers can go to. */
const forCustomers = /^\/($|promised\/|reports|you)/

/** What surrounds every screen: the areas, the keys, the line to the server. */
export function Shell() {
  const me = useMe()
  const here = useLocation()
  if (me.error instanceof Problem && me.error.status === 401) {
    return <Navigate to={`/sign-in?to=${encodeURIComponent(here.pathname + here.search)}`} replace />
  }
  if (me.error) {
    return (
      <div className="centre">
        <p className="trouble">{me.error.message}</p>
      </div>
    )
  }
  if (!me.data) return null
  if (me.data.second_factor_required && !me.data.second_factor && here.pathname !== '/you') return <Navigate to="/you" replace />
  if (!me.data.may.includes('see') && !forCustomers.test(here.pathname)) return <Navigate to="/" replace />
  return <SignedIn home={me.data.timezone} demo={me.data.demo} name={me.data.name} role={me.data.customer ? `for ${me.data.customer}` : me.data.role} />
}

function SignedIn({ home, demo, name, role }: { home: string; demo: boolean; name: string; role: string }) {
  const [own, setOwn] = useState(() => localStorage.getItem('kestite-zone') === 'browser')
  const zone = own ? Intl.DateTimeFormat().resolvedOptions().timeZone : home
  const zones = useMemo(
    () => ({
      zone,
      home,
      toggle: () => {
        localStorage.setItem('kestite-zone', own ? 'home' : 'browser')
        setOwn(!own)
      },
    }),
    [zone, home, own],
  )
  useHeading()
  const keep = useKeep()
  const [finder, setFinder] = useState(false)
  const [keys, setKeys] = useState(false)
  const may = useMay()
  const shown = areas.filter((a) => may(a.needs) && (demo || a.path !== '/stand-ins'))
  useShortcuts(shown, () => setFinder(true), () => setKeys(true))
  return (
    <ZoneContext value={zones}>
      <a className="skip" href="#main">
        Skip to the content
      </a>
      <Hatches />
      <div className="page">
        <nav className="nav" aria-label="Areas">
          <Link className="brand" to={keep('/')}>
            Kestite
          </Link>
          <ol>
            {shown.map((a) => (
              <li key={a.path}>
                <NavLink to={keep(a.path)} end={a.path === '/'} aria-keyshortcuts={a.key || undefined} title={a.key && `Key ${a.key}`}>
                  {a.name} {a.key && <kbd aria-hidden>{a.key}</kbd>}
                </NavLink>
              </li>
            ))}
          </ol>
          <Foot name={name} role={role} onFind={() => setFinder(true)} onKeys={() => setKeys(true)} />
        </nav>
        <main id="main">
          <Outlet />
        </main>
      </div>
      <Leaving />
      <Suspense fallback={null}>
        {finder && <Finder areas={shown} onClose={() => setFinder(false)} />}
        {keys && <Keys open onClose={() => setKeys(false)} />}
      </Suspense>
    </ZoneContext>
  )
}

function Foot({ name, role, onFind, onKeys }: { name: string; role: string; onFind: () => void; onKeys: () => void }) {
  const { connected, heard } = useLive()
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const t = window.setInterval(() => setNow(Date.now()), 1000)
    return () => window.clearInterval(t)
  }, [])
  const client = useQueryClient()
  const navigate = useNavigate()
  const { mode, systemMode, setMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  const leave = async () => {
    forgetDrafts()
    await ask(api.DELETE('/api/v1/session'))
    client.clear()
    await navigate('/sign-in')
  }
  const see = useMay()('see')
  const inbox = useInbox(see).data
  const unread = inbox?.unread ?? 0
  const seconds = Math.max(0, Math.round((now - heard) / 1000))
  return (
    <footer>
      <button type="button" className="quiet" onClick={onFind}>
        find <kbd>/</kbd>
      </button>
      <button type="button" className="quiet optional" onClick={onKeys}>
        keys <kbd>?</kbd>
      </button>
      <button type="button" className="quiet" onClick={() => setMode(dark ? 'light' : 'dark')}>
        {dark ? 'light' : 'dark'} look
      </button>
      {see && (
        <Link to="/you/inbox" title="Notices that were for you">
          inbox{unread > 0 && <b>, {unread} new</b>}
        </Link>
      )}
      <span>
        <Link to="/you" title="Your account: password, second factor, sessions">
          {name}
        </Link>
        <br className="optional" />
        <span className="optional">{role}</span>
        {' · '}
        <button type="button" className="quiet" onClick={() => void leave()}>
          sign out
        </button>
      </span>
      <Suspense fallback={null}>{inbox && <Ring items={inbox.items} />}</Suspense>
      <span className={connected ? 'live' : 'live stale'}>
        <span role="status">{connected ? 'live' : 'not live'}</span>
        <span aria-hidden>{connected ? ` · ${seconds} s ago` : ` for ${seconds} s`}</span>
      </span>
    </footer>
  )
}

/** The keys that work everywhere, except while typing. */
function useShortcuts(areas: readonly { path: string; key: string }[], find: () => void, help: () => void) {
  const navigate = useNavigate()
  const keep = useKeep()
  const [, setSpan] = useSpan()
  // With what is drawn, not after it: a key pressed as soon as the areas show goes where it says.
  useLayoutEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault()
        find()
        return
      }
      const on = e.target as HTMLElement
      if (e.ctrlKey || e.metaKey || e.altKey || on.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(on.tagName) || on.closest('form, [role=dialog], [role=listbox], [role=combobox], [role=menu], [role=textbox]')) return
      const next = '[]+=-'.includes(e.key) ? step(e.key) : undefined
      const area = areas.find((a) => a.key && a.key === e.key)
      if (area) void navigate(keep(area.path))
      else if (e.key === '/') find()
      else if (e.key === '?') help()
      else if (e.key === '.') setSpan(undefined)
      else if (next) setSpan(next)
      else return
      e.preventDefault()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  })
}
