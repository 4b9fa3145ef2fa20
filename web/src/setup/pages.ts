/** The pages of Set-up, and what they need. */
export const setupPages = [
  { path: '/set-up', name: 'Locations', needs: 'see' },
  { path: '/set-up/pairs', name: 'Pairs', needs: 'see' },
  { path: '/set-up/kits', name: 'Kits', needs: 'see' },
  { path: '/set-up/networks', name: 'Networks', needs: 'see' },
  { path: '/set-up/credentials', name: 'Credentials', needs: 'see' },
  { path: '/set-up/teams', name: 'Teams', needs: 'see' },
  { path: '/set-up/customers', name: 'Customers', needs: 'see' },
  { path: '/set-up/contracts', name: 'Contracts', needs: 'see' },
  { path: '/set-up/holidays', name: 'Holidays', needs: 'see' },
  { path: '/set-up/embargoes', name: 'Embargoes', needs: 'see' },
  { path: '/set-up/selections', name: 'Selections', needs: 'see' },
  { path: '/set-up/pools', name: 'Pools', needs: 'see' },
  { path: '/set-up/contact-methods', name: 'Contact methods', needs: 'see' },
  { path: '/set-up/relays', name: 'Relays', needs: 'see' },
  { path: '/set-up/people', name: 'People', needs: 'administer' },
  { path: '/set-up/trail', name: 'Trail', needs: 'audit' },
] as const
