import { createContext, useContext, useEffect } from 'react'
import { useSearchParams } from 'react-router'

/** The band that all screens show, by its name, from the address; undefined is the present month. */
export function usePeriod(): [string | undefined, (period: string | undefined) => void] {
  const [params, setParams] = useSearchParams()
  const period = params.get('period') ?? undefined
  const set = (next: string | undefined) => {
    setParams(
      (p) => {
        if (next) p.set('period', next)
        else p.delete('period')
        p.delete('at')
        return p
      },
      { replace: false },
    )
  }
  return [period, set]
}

/** What the band of the screen shows, for keys that step from it. */
let shown: { before: string; after: string; over: boolean } | undefined

export const shownBand = () => shown

/** Makes a band the one that keys step from, while it is on the screen. */
export function useShownBand(band: { before: string; after: string; to: string; now: string } | undefined) {
  const [before, after, over] = [band?.before, band?.after, band !== undefined && Date.parse(band.now) >= Date.parse(band.to)]
  useEffect(() => {
    shown = before && after ? { before, after, over } : undefined
    return () => {
      shown = undefined
    }
  }, [before, after, over])
}

/** A link to another screen that keeps the period. */
export function useKeep(): (path: string) => string {
  const [period] = usePeriod()
  return (path) => (period ? `${path}${path.includes('?') ? '&' : '?'}period=${encodeURIComponent(period)}` : path)
}

/** The zone in which times are shown. */
export const ZoneContext = createContext<{ zone: string; home: string; toggle: () => void }>({ zone: 'UTC', home: 'UTC', toggle: () => undefined })

export const useZone = () => useContext(ZoneContext)
