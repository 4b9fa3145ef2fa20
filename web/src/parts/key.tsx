import { useRef } from 'react'

/**
 * A key for a change that is sent to the server: the same as long as what is sent is
 * the same, so that one sent twice, or again after no answer, is made once.
 */
export function useKey(): (body: unknown) => string {
  const of = useKeys()
  return (body) => of('', body)
}

/** The same for several changes, told apart by a name. */
export function useKeys(): (name: string | number, body: unknown) => string {
  const kept = useRef(new Map<string | number, { text: string; key: string }>())
  return (name, body) => {
    const text = JSON.stringify(body)
    const known = kept.current.get(name)
    if (known?.text === text) return known.key
    // Not crypto.randomUUID: that is there on secure pages only.
    const key = Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')
    kept.current.set(name, { text, key })
    return key
  }
}
