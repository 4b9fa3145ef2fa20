import { useContacts, useNoticePeople, usePools } from './queries'
import { keyOf, type Recipient } from './words'

export type Receiver = { key: string; name: string; group: string }

/** All that can be told: pools, people, shared contact methods; and what each is called. */
export function useReceivers(): { all: Receiver[]; name: (r: Recipient) => string } {
  const pools = usePools().data ?? []
  const people = useNoticePeople().data ?? []
  const contacts = useContacts().data ?? []
  const known: (Receiver & { retired: boolean })[] = [
    ...pools.map((p) => ({ key: `pool ${p.id}`, name: p.spec.name, group: 'Pools', retired: p.retired })),
    ...people.map((p) => ({ key: `person ${p.id}`, name: p.name, group: 'People', retired: false })),
    ...contacts.map((c) => ({ key: `contact ${c.id}`, name: c.spec.name, group: 'Shared contact methods', retired: c.retired })),
  ]
  return { all: known.filter((r) => !r.retired), name: (r) => known.find((k) => k.key === keyOf(r))?.name ?? 'somebody who is gone' }
}
