import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { useMay, useMe } from '../api/queries'
import { Trouble } from '../parts/trouble'
import { fullTime } from '../time/format'
import { useZone } from '../time/span'

/** Who lets the schedule of a customer publish its reports at once, and giving or withdrawing that. */
export function StandingApproval({ customer, name }: { customer: string; name: string }) {
  const { zone } = useZone()
  const list = useQuery({ queryKey: ['standing-approvals'], queryFn: () => ask(api.GET('/api/v1/standing-approvals')).then((l) => l.items) })
  const approves = useMay()('approve')
  const limited = Boolean(useMe().data?.team_ids?.length)
  const may = approves && !limited
  const [asking, setAsking] = useState(false)
  const [until, setUntil] = useState('')
  const path = { params: { path: { id: customer } } }
  const give = useChange({ mutationFn: () => ask(api.POST('/api/v1/customers/{id}/standing-approval', { ...path, body: { until: until.trim() || undefined } })), again: ['standing-approvals'], onSuccess: () => setAsking(false) })
  const end = useChange({ mutationFn: () => ask(api.DELETE('/api/v1/customers/{id}/standing-approval', path)), again: ['standing-approvals'] })
  if (!list.data) return null
  const now = list.data.find((a) => a.customer.id === customer && !a.withdrawn_at)
  return (
    <div className="sub" data-standing-approval={customer}>
      {now ? `reports are published at once in the name of ${now.by}, since ${fullTime(now.at, zone)}${now.until ? ` until ${now.until}` : ''}` : 'reports would be published at once, but nobody stands for it: they are drafted'}
      {may && (
        <>
          {' · '}
          <button type="button" className="link" onClick={() => (now ? end.mutate() : setAsking(true))}>
            {now ? 'withdraw that' : 'stand for it'}
          </button>
        </>
      )}
      <Trouble error={end.error} />
      <Dialog open={asking} onClose={() => setAsking(false)}>
        <DialogTitle>Let the reports of {name} be published in your name?</DialogTitle>
        <DialogContent>
          <p>When its schedule comes due, each report with a verdict and without adjustments is published and sent at once, and says that you stand for it. Everything else is drafted for a person to read. You can withdraw it at any time.</p>
          <TextField label="Until the day" placeholder="2026-12-31" value={until} onChange={(e) => setUntil(e.target.value)} helperText="Empty: until it is withdrawn" slotProps={{ inputLabel: { shrink: true } }} />
          <Trouble error={give.error} />
        </DialogContent>
        <DialogActions>
          <Button variant="text" onClick={() => setAsking(false)}>
            Leave it
          </Button>
          <Button variant="contained" disabled={give.isPending} onClick={() => give.mutate()}>
            Stand for it
          </Button>
        </DialogActions>
      </Dialog>
    </div>
  )
}
