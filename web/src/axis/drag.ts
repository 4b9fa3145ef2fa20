import { useRef, useState, type PointerEvent, type RefObject } from 'react'

type Selection = { left: number; width: number }

/**
 * Dragging along an axis: what is selected while it lasts, in pixels, and what to hang on the element. When it is let
 * go, take gets the two instants. A press without a drag stays what it was; after a drag the click is swallowed.
 */
export function useDrag(ref: RefObject<Element | null>, axis: { from: number; to: number }, take: (from: number, to: number) => void) {
  const [selection, setSelection] = useState<Selection | undefined>()
  const begun = useRef<number | undefined>(undefined)
  const dragged = useRef(false)
  const place = (e: { clientX: number }) => {
    const box = ref.current?.getBoundingClientRect()
    return box ? { x: Math.min(Math.max(e.clientX - box.left, 0), box.width), width: box.width } : undefined
  }
  const part = (a: number, b: number): Selection => ({ left: Math.min(a, b), width: Math.abs(a - b) })
  const hang = {
    onPointerDown: (e: PointerEvent) => {
      dragged.current = false
      if (e.button === 0 && e.pointerType !== 'touch') begun.current = place(e)?.x // a finger scrolls
    },
    onPointerMove: (e: PointerEvent) => {
      const at = place(e)
      if (begun.current === undefined || !at || (!dragged.current && Math.abs(at.x - begun.current) < 5)) return
      if (!dragged.current) (e.currentTarget as Element).setPointerCapture(e.pointerId)
      dragged.current = true
      setSelection(part(begun.current, at.x))
    },
    onPointerUp: (e: PointerEvent) => {
      const at = place(e)
      if (begun.current !== undefined && dragged.current && at) {
        const { left, width } = part(begun.current, at.x)
        const scale = (axis.to - axis.from) / at.width
        take(axis.from + left * scale, axis.from + (left + width) * scale)
      }
      begun.current = undefined
      setSelection(undefined)
    },
    onPointerCancel: () => {
      begun.current = undefined
      setSelection(undefined)
    },
    onClickCapture: (e: { preventDefault: () => void; stopPropagation: () => void }) => {
      if (!dragged.current) return
      dragged.current = false
      e.preventDefault()
      e.stopPropagation()
    },
    onDragStart: (e: { preventDefault: () => void }) => e.preventDefault(),
  }
  return { selection, hang }
}
