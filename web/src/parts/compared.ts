/** A list in the order of what of gives, texts as people sort them, numbers by size; items that are alike stay as they were. */
export function compared<T>(list: T[], of: (item: T) => string | number, down: boolean): T[] {
  const order = (a: string | number, b: string | number) => (typeof a === 'number' && typeof b === 'number' ? a - b : String(a).localeCompare(String(b), 'en', { numeric: true }))
  const keyed = list.map((item) => ({ item, key: of(item) }))
  keyed.sort((a, b) => (down ? -1 : 1) * order(a.key, b.key))
  return keyed.map((k) => k.item)
}
