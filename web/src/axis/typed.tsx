import Button from '@mui/material/Button'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { Minute, noDate } from '../parts/day'
import { Trouble } from '../parts/trouble'
import { wallMinute } from '../time/format'
import { exactly, useSpan } from '../time/span'

/** From when to when, typed or picked; the server reads it in the organisation's zone and says what it is. */
export default function Typed({ span, done }: { span: Schemas['SpanView']; done: () => void }) {
  const [, setSpan] = useSpan()
  const [from, setFrom] = useState(() => wallMinute(span.from, span.timezone))
  const [to, setTo] = useState(() => wallMinute(span.to, span.timezone))
  const go = useChange({
    mutationFn: () => {
      if ([from, to].some((t) => t === '' || t === noDate)) throw new Error('Finish both times, as 2026-11-03 14:00.')
      const read = (text: string) => `${text.replace(' ', 'T')}:00`
      return ask(api.GET('/api/v1/services/strips', { params: { query: { span: `${read(from)}/${read(to)}` } } }))
    },
    onSuccess: ({ span: s }) => {
      setSpan(s.unit ? s.name : exactly(Date.parse(s.from), Date.parse(s.to)))
      done()
    },
  })
  return (
    <form
      className="in-a-row no-print"
      aria-label="From when to when"
      onSubmit={(e) => {
        e.preventDefault()
        go.mutate()
      }}
      onKeyDown={(e) => e.key === 'Escape' && done()}
    >
      <Minute label="From" autoFocus width={230} value={from} change={setFrom} zone={span.timezone} help={`on the clocks of ${span.timezone}`} />
      <Minute label="To" width={230} value={to} change={setTo} zone={span.timezone} />
      <Button type="submit" variant="contained" disabled={go.isPending}>
        Show
      </Button>
      <Button variant="text" onClick={done}>
        Leave it
      </Button>
      <Trouble error={go.error} />
    </form>
  )
}
