import { createContext, useContext, useEffect } from 'react'
import { useSearchParams } from 'react-router'

/** The span that all screens show, by its name, from the address; undefined is the present month. */
export function useSpan(): [string | undefined, (span: string | undefined) => void] {
  const [params, setParams] = useSearchParams()
  const span = params.get('span') ?? undefined
  const set = (next: string | undefined) => {
    setParams(
      (p) => {
        if (next) p.set('span', next)
        else p.delete('span')
        const at = momentOf(p.get('at'), Date.parse(shown?.band.now ?? '')) ?? NaN
        const [from, to] = (next ?? '').split('/').map((t) => Date.parse(t))
        // A moment that is looked at stays while it is in sight.
        if (!(next?.includes('T') && from !== undefined && to !== undefined && from <= at && at < to)) p.delete('at')
        return p
      },
      { replace: false },
    )
  }
  return [span, set]
}

/** A moment by its name in the address, where `now` moves on with what is known; undefined is none. */
export function momentOf(name: string | null, now: number): number | undefined {
  const at = name === 'now' ? now : Date.parse(name ?? '')
  return Number.isNaN(at) ? undefined : at
}

const minute = 60_000
const day = 86_400_000
const least = 10 * minute
const most = 400 * day

/** Two instants as a span's name: not shorter than the least, and on minutes that read well; from where somebody drags, or types. */
export function exactly(from: number, to: number): string {
  const middle = (from + to) / 2
  const long = Math.min(most, Math.max(least, to - from))
  const step = long > 2 * day ? 60 * minute : long > day / 4 ? 5 * minute : minute
  const begin = Math.round((middle - long / 2) / step) * step
  return `${new Date(begin).toISOString()}/${new Date(begin + Math.max(1, Math.round(long / step)) * step).toISOString()}`
}

type Shown = { from: string; to: string; now: string; before: string; after: string; unit: string; units: { unit: string; name: string }[] }

/** Half of what is shown, around a moment or what is nearest to now; undefined where it would be too short. */
export function closer(band: Shown, at?: number): string | undefined {
  const [from, to] = [Date.parse(band.from), Date.parse(band.to)]
  if (to - from <= least) return undefined
  const half = Math.max(least, (to - from) / 2)
  const centre = at ?? Math.min(Date.parse(band.now), (from + to) / 2)
  const begin = Math.min(Math.max(centre - half / 2, from), to - half)
  return exactly(begin, begin + half)
}

/** Twice what is shown, and from four weeks on the next longer part of the calendar; undefined where there is none. */
export function wider(band: Shown): string | undefined {
  const [from, to] = [Date.parse(band.from), Date.parse(band.to)]
  if (band.unit === '' && to - from < 14 * day) return exactly(from - (to - from) / 2, to + (to - from) / 2)
  const at = band.units.findIndex((u) => u.unit === band.unit)
  if (band.unit === '') return band.units.find((u) => u.unit === 'month')?.name
  return band.units[at + 1]?.name
}

/** What the band of the screen shows, for keys that step from it. */
let shown: { band: Shown; at: number | undefined } | undefined

/** Where a key goes from the span in the address, which is ahead of the band where keys come faster than answers; undefined where it goes nowhere. */
export function step(key: string): string | undefined {
  if (!shown) return undefined
  const { at } = shown
  const name = new URLSearchParams(window.location.search).get('span') ?? ''
  const [from, to] = name.split('/')
  const unit = shown.band.units.find((u) => u.name === name)?.unit
  const exact = name.includes('T') && from !== undefined && to !== undefined
  const band = exact ? { ...shown.band, from, to, unit: '' } : unit ? { ...shown.band, unit } : shown.band
  switch (key) {
    case '[':
      return band.before
    case ']':
      return Date.parse(band.now) >= Date.parse(band.to) ? band.after : undefined
    case '+':
    case '=':
      return closer(band, at)
    case '-':
      return wider(band)
  }
  return undefined
}

/** Makes a band the one that keys step from, while it is on the screen. */
export function useShownBand(band: Shown | undefined, at: number | undefined) {
  const key = JSON.stringify([band?.from, band?.to, band?.now, at])
  useEffect(() => {
    shown = band && { band, at }
    return () => {
      shown = undefined
    }
    // The key stands for all of it.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [key])
}

/** A link to another screen that keeps the span, and on a service the moment that is looked at. */
export function useKeep(): (path: string) => string {
  const [params] = useSearchParams()
  return (path) => {
    const [bare = '', own] = path.split('?')
    const next = new URLSearchParams(own)
    const [span, at] = [params.get('span'), params.get('at')]
    if (span && !next.has('span')) next.set('span', span)
    if (at && !next.has('at') && /^\/services\/[^/]+$/.test(bare)) next.set('at', at)
    const query = next.toString()
    return query ? `${bare}?${query}` : bare
  }
}

/** The zone in which times are shown. */
export const ZoneContext = createContext<{ zone: string; home: string; toggle: () => void }>({ zone: 'UTC', home: 'UTC', toggle: () => undefined })

export const useZone = () => useContext(ZoneContext)
