import { useMay } from '../api/queries'
import { Pages } from '../parts/pages'

const pages = [
  { path: '/reports', name: 'Register' },
  { path: '/reports/volumes', name: 'Volumes' },
  { path: '/reports/credits', name: 'Credits' },
]

/** The pages of Reports. */
export function ReportsNav() {
  const sees = useMay()('see')
  return <Pages area="Reports" pages={sees ? [...pages, { path: '/reports/legal-holds', name: 'Legal holds' }] : pages} />
}
