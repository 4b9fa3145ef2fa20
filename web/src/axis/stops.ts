import { useLayoutEffect, useRef, type FocusEvent } from 'react'

const sliders = (list: Element | null | undefined) => [...(list?.querySelectorAll<SVGElement>('[role=slider]') ?? [])]

/**
 * Makes the strips of a list one stop of the tabulator, the one that had the focus last or the first: what to hang on
 * the list. Within it the arrows go up and down; see neighbour.
 */
export function useOneStop() {
  const ref = useRef<HTMLDivElement>(null)
  const last = useRef<string | undefined>(undefined)
  const set = () => {
    const all = sliders(ref.current)
    const stop = all.find((s) => s.dataset.strip === last.current) ?? all[0]
    for (const s of all) s.tabIndex = s === stop ? 0 : -1
  }
  useLayoutEffect(set) // strips come and go with what is shown
  const onFocus = (e: FocusEvent) => {
    const name = (e.target as SVGElement).dataset.strip
    if (name === undefined) return
    last.current = name
    set()
  }
  return { ref, onFocus, 'data-strips': true }
}

/** The strip before or after one in its list. */
export function neighbour(of: Element, step: 1 | -1): SVGElement | undefined {
  const all = sliders(of.closest('[data-strips]'))
  return all[all.findIndex((s) => s === of) + step]
}
