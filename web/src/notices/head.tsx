import { Pages } from '../parts/pages'

const pages = [
  { path: '/notices', name: 'Duty' },
  { path: '/notices/plans', name: 'Plans' },
  { path: '/notices/rehearsal', name: 'Rehearsal' },
  { path: '/notices/deliveries', name: 'Deliveries' },
]

/** The pages of Notices. */
export const NoticesNav = () => <Pages area="Notices" pages={pages} />
