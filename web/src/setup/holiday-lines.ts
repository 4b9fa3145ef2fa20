export type HolidayLine = { date: string; name?: string }

/** Holidays from lines such as "2026-12-25 Christmas Day", and the lines that begin with no date, by their numbers. */
export function holidaysOf(text: string): { days: HolidayLine[]; wrong: number[] } {
  const days: HolidayLine[] = []
  const wrong: number[] = []
  text.split('\n').forEach((line, i) => {
    if (line.trim() === '') return
    const [, date, name] = /^\s*"?(\d{4}-\d{2}-\d{2})"?(?:[\s,;:]+(.*))?$/.exec(line) ?? []
    if (!date) wrong.push(i + 1)
    else days.push({ date, name: name?.trim().replace(/^"(.*)"$/, '$1') || undefined })
  })
  return { days, wrong }
}

/** Holidays as lines, in order. */
export const linesOf = (days: HolidayLine[]): string =>
  [...days]
    .sort((a, b) => (a.date < b.date ? -1 : 1))
    .map((d) => [d.date, d.name].filter(Boolean).join(' '))
    .join('\n')

/** Days with those of another list that are not among them; a day that has no name takes the other's. */
export function joined(days: HolidayLine[], more: HolidayLine[]): HolidayLine[] {
  const all = new Map(days.map((d) => [d.date, d]))
  for (const d of more) if (!all.get(d.date)?.name) all.set(d.date, d)
  return [...all.values()]
}
