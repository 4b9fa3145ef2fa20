import { useEffect, useRef } from 'react'
import { useLocation } from 'react-router'

/** The tab is called by the screen's heading, and the focus goes there with the route, but not at first and never out of a field or a dialog. */
export function useHeading(): void {
  const { pathname } = useLocation()
  const first = useRef(true)
  useEffect(() => {
    const main = document.getElementById('main') ?? document.body
    let goes = !first.current
    first.current = false
    const look = () => {
      const heading = main.querySelector('h1')
      const text = heading?.innerText.trim()
      document.title = text ? `${text} · Kestite` : 'Kestite'
      if (!heading || !goes) return
      goes = false
      const on = document.activeElement
      if (on && on !== document.body && on !== main && !on.closest('nav')) return // a field, or a dialog, has it
      heading.tabIndex = -1
      heading.focus({ preventScroll: true })
    }
    const watch = new MutationObserver(look)
    watch.observe(main, { childList: true, subtree: true, characterData: true })
    look()
    return () => watch.disconnect()
  }, [pathname])
}
