import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import { TZDate } from '@date-fns/tz'
import { parse } from 'date-fns'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { Problem, api, ask } from '../api/client'
import { Minute, noDate } from '../parts/day'
import { Trouble } from '../parts/trouble'
import { wallMinute } from '../time/format'
import { useZone } from '../time/span'

/** Stops the notices of a service, or of a check, until a time, with the reason. */
export default function HoldForm({ about, subject, done }: { about: 'service' | 'check'; subject: string; done: () => void }) {
  const { home } = useZone()
  const [until, setUntil] = useState(() => wallMinute(Date.now() + 2 * 3_600_000, home))
  const [reason, setReason] = useState('')
  const hold = useChange({
    mutationFn: () => ask(api.POST('/api/v1/holds', { body: { about, subject, reason, until: new Date(parse(until, 'yyyy-MM-dd HH:mm', TZDate.tz(home)).getTime()).toISOString() } })),
    again: 'all',
    onSuccess: done,
  })
  const fault = (f: string) => (hold.error instanceof Problem ? hold.error.fields[f] : undefined)
  return (
    <form
      className="in-a-row"
      aria-label="Hold notices"
      onSubmit={(e) => {
        e.preventDefault()
        hold.mutate()
      }}
    >
      <Minute label="Nobody is told until" value={until} change={setUntil} zone={home} width={220} required error={fault('until')} help={home} />
      <TextField label="Why" required autoFocus value={reason} sx={{ width: 320 }} error={Boolean(fault('reason'))} helperText={fault('reason') ?? 'It stands wherever it counts; measuring and accounts go on'} slotProps={{ htmlInput: { maxLength: 300 } }} onChange={(e) => setReason(e.target.value)} />
      <Button type="submit" variant="contained" sx={{ height: 40 }} disabled={hold.isPending || until === '' || until === noDate}>
        Hold notices
      </Button>
      <Button variant="text" sx={{ height: 40 }} onClick={done}>
        Leave it
      </Button>
      <Trouble error={hold.error && !fault('until') && !fault('reason') ? hold.error : undefined} />
    </form>
  )
}
