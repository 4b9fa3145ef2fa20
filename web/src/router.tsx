import { createBrowserRouter } from 'react-router'
import { Broken, NotHere } from './parts/broken'
import { Shell } from './shell/shell'

/** Every screen is loaded when it is first gone to. */
const screen = (load: () => Promise<Record<string, React.ComponentType>>, name: string) => ({
  lazy: async () => ({ Component: (await load())[name] }),
  errorElement: <Broken />,
  HydrateFallback: () => null,
})

export const router = createBrowserRouter([
  { path: '/sign-in', ...screen(() => import('./session/sign-in'), 'SignIn') },
  { path: '/enter', ...screen(() => import('./session/enter'), 'Enter') },
  { path: '/first', ...screen(() => import('./session/first-person'), 'FirstPerson') },
  {
    element: <Shell />,
    errorElement: <Broken />,
    HydrateFallback: () => null,
    children: [
      { path: '/', ...screen(() => import('./standing/standing'), 'StandingPage') },
      { path: '/promised/:id', ...screen(() => import('./standing/promised'), 'Promised') },
      { path: '/incidents', ...screen(() => import('./incidents/list'), 'IncidentList') },
      { path: '/incidents/:id', ...screen(() => import('./incidents/incident'), 'IncidentPage') },
      { path: '/services', ...screen(() => import('./services/list'), 'ServiceList') },
      { path: '/services/new', ...screen(() => import('./services/new-service'), 'NewService') },
      { path: '/services/many', ...screen(() => import('./services/many'), 'ManyServices') },
      { path: '/services/:id', ...screen(() => import('./services/service'), 'ServicePage') },
      { path: '/services/:id/edit', ...screen(() => import('./services/edit-service'), 'EditService') },
      { path: '/checks', ...screen(() => import('./services/checks'), 'CheckList') },
      { path: '/checks/new', ...screen(() => import('./services/check-form'), 'CheckPage') },
      { path: '/checks/:id', ...screen(() => import('./services/check-form'), 'CheckPage') },
      { path: '/agreements', ...screen(() => import('./agreements/list'), 'AgreementList') },
      { path: '/agreements/new', ...screen(() => import('./agreements/agreement-form'), 'AgreementPage') },
      { path: '/agreements/:id', ...screen(() => import('./agreements/agreement-form'), 'AgreementPage') },
      { path: '/reports', ...screen(() => import('./reports/list'), 'ReportList') },
      { path: '/reports/:id', ...screen(() => import('./reports/report'), 'ReportPage') },
      { path: '/set-up', ...screen(() => import('./setup/locations'), 'Locations') },
      { path: '/set-up/people', ...screen(() => import('./setup/people'), 'People') },
      { path: '/set-up/teams', ...screen(() => import('./setup/parties'), 'Teams') },
      { path: '/set-up/customers', ...screen(() => import('./setup/parties'), 'Customers') },
      { path: '/set-up/contracts', ...screen(() => import('./setup/parties'), 'Contracts') },
      { path: '/set-up/holidays', ...screen(() => import('./setup/holidays'), 'Holidays') },
      { path: '/set-up/trail', ...screen(() => import('./setup/trail'), 'Trail') },
      { path: '/you', ...screen(() => import('./session/you'), 'You') },
      { path: '/set-up/kits', ...screen(() => import('./setup/kits'), 'Kits') },
      { path: '/set-up/networks', ...screen(() => import('./setup/networks'), 'Networks') },
      { path: '/set-up/credentials', ...screen(() => import('./setup/credentials'), 'Credentials') },
      { path: '/set-up/pairs', ...screen(() => import('./setup/pairs'), 'Pairs') },
      { path: '/set-up/pairs/new', ...screen(() => import('./setup/pair-plan'), 'PairPlanPage') },
      { path: '/set-up/pairs/:id', ...screen(() => import('./setup/pair-plan'), 'PairPlanPage') },
      { path: '/stand-ins', ...screen(() => import('./standins/standins'), 'StandIns') },
      { path: '*', Component: NotHere },
    ],
  },
])
