import { createContext, useContext } from 'react'
import { useSearchParams } from 'react-router'

/** The month that all screens show, from the address; undefined is the present one. */
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

/** A link to another screen that keeps the period. */
export function useKeep(): (path: string) => string {
  const [period] = usePeriod()
  return (path) => (period ? `${path}${path.includes('?') ? '&' : '?'}period=${period}` : path)
}

/** The zone in which times are shown. */
export const ZoneContext = createContext<{ zone: string; home: string; toggle: () => void }>({ zone: 'UTC', home: 'UTC', toggle: () => undefined })

export const useZone = () => useContext(ZoneContext)
