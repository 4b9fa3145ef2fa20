import { Pages } from '../parts/pages'

const pages = [
  { path: '/reports', name: 'Register' },
  { path: '/reports/credits', name: 'Credits' },
]

/** The pages of Reports. */
export const ReportsNav = () => <Pages area="Reports" pages={pages} />
