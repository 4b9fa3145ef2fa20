import { useLocation } from 'react-router'

/** Paths within the calendar, with the days that are shown. */
export function useGo() {
  const { search } = useLocation()
  return (path: string, more: Record<string, string>) => {
    const kept = new URLSearchParams()
    const now = new URLSearchParams(search)
    for (const name of ['from', 'days', 'quiet']) if (now.get(name)) kept.set(name, now.get(name) ?? '')
    for (const [name, value] of Object.entries(more)) kept.set(name, value)
    return kept.size ? `${path}?${kept.toString()}` : path
  }
}
