import Alert from '@mui/material/Alert'
import { useEffect, useRef, useState } from 'react'
import { useBlocker } from 'react-router'
import type { FieldValues, Path, PathValue, UseFormReturn } from 'react-hook-form'
import { Confirm } from './trouble'
import { useRevisions } from '../api/queries'

/** A value without what says nothing; a number is what is typed for it. */
function plain(v: unknown): unknown {
  if (v === undefined || v === null || v === '' || (typeof v === 'number' && Number.isNaN(v))) return undefined
  if (typeof v === 'number') return String(v)
  if (Array.isArray(v)) return v.length ? v.map((x) => plain(x) ?? null) : undefined
  if (typeof v !== 'object') return v
  const all = Object.entries(v)
    .map(([k, x]) => [k, plain(x)] as const)
    .filter(([, x]) => x !== undefined)
    .sort(([a], [b]) => (a < b ? -1 : 1))
  return all.length ? Object.fromEntries(all) : undefined
}

const same = (a: unknown, b: unknown): boolean => JSON.stringify(plain(a)) === JSON.stringify(plain(b))

/**
 * Lets fields see that their values were set by the program: a label that stands in an empty field goes up. They look
 * when the browser fills them in, which it tells by the beginning of an animation.
 */
function refilled(): void {
  window.setTimeout(() => {
    for (const input of document.querySelectorAll('form .MuiInputBase-input')) input.dispatchEvent(new AnimationEvent('animationstart', { animationName: 'mui-auto-fill-cancel', bubbles: true }))
  })
}

const prefix = 'kestite-draft '

let given = false // all that is typed was given up

/** The forms on the screen: whether each holds something that is not saved, and how it is given up. */
const open = new Map<object, { holds: () => boolean; done: () => void }>()

/** Asks before a screen is left on which something was typed and not saved, in whatever form. */
export function Leaving() {
  const blocker = useBlocker(({ currentLocation, nextLocation }) => currentLocation.pathname !== nextLocation.pathname && [...open.values()].some((f) => f.holds()))
  return (
    <Confirm
      open={blocker.state === 'blocked'}
      title="Leave without saving?"
      text="What you typed here is not saved, and would be gone."
      act="Leave without saving"
      onYes={() => {
        for (const f of open.values()) f.done()
        blocker.proceed?.()
      }}
      onNo={() => blocker.reset?.()}
    />
  )
}

/** Gives up everything that was typed and not saved, as at signing out. */
export function forgetDrafts(): void {
  given = true
  for (const key of Object.keys(sessionStorage)) if (key.startsWith(prefix)) sessionStorage.removeItem(key)
}

/** both are the fields that somebody else changed too, and of which nothing was said yet. */
type Draft<V> = { base: V; values: V; both: (keyof V)[] }

type Options<V> = {
  /** Names what is edited, such as "services/ferry"; a draft of it survives a reload. Absent: none is kept. */
  draft?: string
  /** Takes out what must not be kept in the browser, such as secrets. */
  without?: (v: V) => V
}

export type Kept<V extends FieldValues> = {
  /** Something was typed that is not saved. */
  changed: boolean
  /** Fields that somebody else changed too, with what they say there. */
  theirs: Partial<V>
  /** The revision that came in while this form was open; undefined: none did. */
  came: number | undefined
  /** What was typed before a reload stands in the form. */
  restored: boolean
  take: (field: keyof V) => void
  leave: (field: keyof V) => void
  discard: () => void
  /** What stands in the form is saved, or given up: leaving it asks nothing. */
  done: () => void
}

/**
 * Keeps what is typed: when somebody else saves, what they changed and I did not is taken over, and where both did
 * mine stays and theirs is shown; leaving asks; a draft survives a reload. fresh are the values of the revision in force.
 */
export function useKept<V extends FieldValues>(form: UseFormReturn<V>, fresh: V, revision: number, { draft, without = (v) => v }: Options<V> = {}): Kept<V> {
  const base = useRef<{ revision: number; values: V } | undefined>(undefined)
  const [theirs, setTheirs] = useState<Partial<V>>({})
  const [came, setCame] = useState<number>()
  const [restored, setRestored] = useState(false)
  const left = useRef(false)
  const mine = form.watch() as V
  const changed = base.current !== undefined && Object.keys(fresh).some((k) => !same(mine[k], base.current?.values[k]))

  const merge = (from: V, open: (keyof V)[]) => {
    const both: Partial<V> = {}
    const now = form.getValues()
    const merged: Record<string, unknown> = { ...fresh }
    for (const k of Object.keys(fresh) as (keyof V & string)[]) {
      if (same(now[k], from[k])) continue // theirs, where they changed it
      merged[k] = now[k]
      if ((open.includes(k) || !same(from[k], fresh[k])) && !same(now[k], fresh[k])) both[k] = fresh[k]
    }
    form.reset(merged as V, { keepErrors: true })
    setTheirs(both)
    refilled()
  }
  useEffect(() => {
    if (base.current === undefined) {
      base.current = { revision, values: fresh }
      given = false
      const text = draft && sessionStorage.getItem(prefix + draft)
      if (!text) return
      const was = JSON.parse(text) as Draft<V>
      form.reset({ ...fresh, ...was.values })
      merge(was.base, was.both)
      setRestored(true)
    } else if (base.current.revision !== revision) {
      const from = base.current.values
      const now = form.getValues()
      // One that says what stands here is mine: word of it came before the answer.
      const mine = Object.keys(fresh).every((k) => same(from[k], fresh[k]) || same(now[k], fresh[k]))
      base.current = { revision, values: fresh }
      merge(from, Object.keys(theirs))
      if (!mine) setCame(revision)
    }
    // Values follow revisions.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [revision])

  const text = draft && changed ? JSON.stringify({ base: base.current?.values, values: without(mine), both: Object.keys(theirs) }) : ''
  useEffect(() => {
    if (!draft) return
    const keep = () => {
      if (text && !left.current && !given) sessionStorage.setItem(prefix + draft, text)
      else sessionStorage.removeItem(prefix + draft)
    }
    const timer = setTimeout(keep, 300)
    window.addEventListener('pagehide', keep) // a reload does not wait
    return () => {
      clearTimeout(timer)
      window.removeEventListener('pagehide', keep)
    }
  }, [draft, text])

  useEffect(() => {
    if (!changed) return
    const ask = (e: BeforeUnloadEvent) => {
      if (!left.current && !draft) e.preventDefault()
    }
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [changed, draft])

  const leave = (field: keyof V) => setTheirs((t) => Object.fromEntries(Object.entries(t).filter(([k]) => k !== field)) as Partial<V>)
  const done = () => {
    left.current = true
    if (draft) sessionStorage.removeItem(prefix + draft)
  }
  const me = useRef({})
  useEffect(() => {
    open.set(me.current, { holds: () => changed && !left.current && !given, done })
  })
  useEffect(() => {
    const own = me.current
    return () => {
      open.delete(own)
    }
  }, [])

  return {
    changed: changed && !left.current,
    theirs,
    came,
    restored,
    take: (field) => {
      form.setValue(field as Path<V>, theirs[field] as PathValue<V, Path<V>>)
      leave(field)
      refilled()
    },
    leave,
    discard: () => {
      form.reset(fresh)
      setTheirs({})
      setRestored(false)
      refilled()
    },
    done,
  }
}


/** Says above a form what others did to what it edits, and that what was typed before is still there. */
export function KeptNote<V extends FieldValues>({ kept, of, names, show }: { kept: Kept<V>; of?: { path: string; id: string }; names?: Partial<Record<keyof V, string>>; show?: (field: keyof V, v: unknown) => string }) {
  const revisions = useRevisions(of?.path, of?.id, kept.came ?? false)
  const by = revisions.data?.find((r) => r.number === kept.came)
  const both = Object.entries(kept.theirs)
  const named = (k: string) => names?.[k] ?? k.charAt(0).toUpperCase() + k.slice(1).replace(/_/g, ' ')
  const text = (k: string, v: unknown) => show?.(k, v) ?? (plain(v) === undefined ? 'nothing' : Array.isArray(v) ? v.map((x) => (typeof x === 'string' ? x : JSON.stringify(x))).join(', ') : typeof v === 'object' ? JSON.stringify(v) : String(v))
  return (
    <>
      {kept.restored && kept.changed && (
        <Alert severity="info" role="status" data-restored>
          What you typed before is still here, and not saved.{' '}
          <button type="button" className="link" onClick={kept.discard}>
            Throw it away
          </button>
        </Alert>
      )}
      {(kept.came !== undefined || both.length > 0) && (
        <Alert severity="info" role="status" data-came={kept.came}>
          {kept.came !== undefined && `${by?.by ?? 'Somebody else'} saved ${of ? `revision ${kept.came}` : 'a change'} while you were here${by?.reason ? ` (${by.reason})` : ''}. What only they changed stands in the form now; what you typed stays. `}
          {both.length > 0 && 'Both of you changed:'}
          {both.map(([k, v]) => (
            <div key={k} data-both={k}>
              {named(k)}: they say <b>{text(k, v)}</b>;{' '}
              <button type="button" className="link" onClick={() => kept.take(k)}>
                take theirs
              </button>{' or '}
              <button type="button" className="link" onClick={() => kept.leave(k)}>
                leave mine
              </button>
            </div>
          ))}
        </Alert>
      )}
    </>
  )
}
