import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import { useDeferredValue, useState } from 'react'
import { useSearchParams } from 'react-router'
import { listed } from '../api/queries'

/** Asks for more rows of a long list; nothing where all are shown. */
export function More({ shown, of, busy, onMore }: { shown: number; of: number; busy?: boolean; onMore: () => void }) {
  if (shown >= of) return null
  return (
    <Box component="p" className="sub" sx={{ margin: '10px 0' }}>
      {shown} of {of} shown.{' '}
      <Button variant="text" disabled={busy} onClick={onMore}>
        {Math.min(listed, of - shown)} more
      </Button>
    </Box>
  )
}

/** What a list is filtered by, from the address: as looked for, as typed, and how to change it. */
export function useFind(): [find: string, text: string, set: (text: string) => void] {
  const [params, setParams] = useSearchParams()
  const [text, setText] = useState(params.get('find') ?? '')
  const set = (next: string) => {
    setText(next)
    setParams(
      (p) => {
        if (next) p.set('find', next)
        else p.delete('find')
        return p
      },
      { replace: true },
    )
  }
  return [useDeferredValue(text.trim()), text, set]
}

/** How many rows of a long list are shown: a hundred, and more on demand. */
export function useShown(): [number, () => void] {
  const [n, setN] = useState(listed)
  return [n, () => setN(n + listed)]
}
