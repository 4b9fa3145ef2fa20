export type Section<T> = { name: string; items: T[] }

/**
 * Items in groups by name, those in none last; one that is in several stands in each. order names those that come
 * first, in their order; the others follow by name. Without of, all are one group without a name.
 */
export function sections<T>(items: T[], of: ((item: T) => string[]) | undefined, order: string[] = []): Section<T>[] {
  if (!of) return [{ name: '', items }]
  const all = new Map<string, T[]>()
  for (const item of items) {
    const names = of(item).filter(Boolean)
    for (const name of names.length > 0 ? new Set(names) : ['']) {
      const list = all.get(name)
      if (list) list.push(item)
      else all.set(name, [item])
    }
  }
  const rank = (name: string) => (name === '' ? order.length + 1 : order.includes(name) ? order.indexOf(name) : order.length)
  return [...all].map(([name, items]) => ({ name, items })).sort((a, b) => rank(a.name) - rank(b.name) || a.name.localeCompare(b.name))
}

/** The first rows of groups, so many of them in all; each says all that is in it. */
export function first<T>(list: Section<T>[], most: number): (Section<T> & { all: T[] })[] {
  const out: (Section<T> & { all: T[] })[] = []
  for (const s of list) {
    if (most <= 0) break
    out.push({ name: s.name, items: s.items.slice(0, most), all: s.items })
    most -= s.items.length
  }
  return out
}

export const rowsOf = <T>(list: Section<T>[]): number => list.reduce((n, s) => n + s.items.length, 0)
