import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { Controller } from 'react-hook-form'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useMay } from '../api/queries'
import { Day, wholeDay } from '../parts/day'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { Awaited, Confirm, Trouble, showFaults } from '../parts/trouble'
import { shortTime } from '../time/format'
import { useZone } from '../time/span'
import { ReportsNav } from './head'
import { useLegalHolds } from './queries'

/** Days whose measurements are not dropped, however old. */
export function LegalHoldsPage() {
  const holds = useLegalHolds()
  const may = useMay()('administer')
  const { zone } = useZone()
  const [lifting, setLifting] = useState<Schemas['LegalHold']>()
  const lift = useChange({ mutationFn: (id: number) => ask(api.DELETE('/api/v1/legal-holds/{id}', { params: { path: { id } } })), again: ['legal-holds'], onSettled: () => setLifting(undefined) })
  if (!holds.data) return <Awaited error={holds.error} />
  return (
    <>
      <ReportsNav />
      <div className="head">
        <Typography variant="h1">Legal holds</Typography>
      </div>
      <p className="lead">
        Raw measurements are dropped after 396 days, but for those of drafts, of frozen accounts that are not published, of periods without a report between published ones, and of reports that are objected to. A legal hold keeps those of other days until it is lifted.
      </p>
      <Trouble error={lift.error} />
      {holds.data.length === 0 ? (
        <p className="empty">Nothing is held.</p>
      ) : (
        <Table size="small" sx={{ maxWidth: 900 }}>
          <TableHead>
            <TableRow>
              <TableCell>Days (UTC)</TableCell>
              <TableCell>For</TableCell>
              <TableCell>State</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {holds.data.map((h) => (
              <TableRow key={h.id} data-hold={h.lifted_at ? 'lifted' : 'held'}>
                <TableCell>
                  {h.first_day} to {h.last_day}
                </TableCell>
                <TableCell>
                  {h.reason}
                  <div className="sub">
                    {h.made_by}, {shortTime(h.made_at, zone)}
                  </div>
                </TableCell>
                <TableCell>{h.lifted_at ? `lifted by ${h.lifted_by ?? ''}, ${shortTime(h.lifted_at, zone)}` : <b>held</b>}</TableCell>
                <TableCell>
                  {may && !h.lifted_at && (
                    <button type="button" className="link" onClick={() => setLifting(h)}>
                      lift
                    </button>
                  )}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {may && <Hold key={holds.data.length} />}
      <Confirm
        open={lifting !== undefined}
        title={`Lift the hold for ${lifting?.reason ?? ''}?`}
        text="What it kept beyond 396 days is dropped within hours, and cannot be had again."
        act="Lift it"
        busy={lift.isPending}
        onYes={() => lifting && lift.mutate(lifting.id)}
        onNo={() => setLifting(undefined)}
      />
    </>
  )
}

function Hold() {
  const fresh = { first_day: '', last_day: '', reason: '' }
  const form = useForm({ defaultValues: fresh })
  const kept = useKept(form, fresh, 0, { draft: 'legal-holds/new' })
  const save = useChange({ mutationFn: (v: typeof fresh) => ask(api.POST('/api/v1/legal-holds', { body: v })), again: ['legal-holds'], kept, onError: (e) => showFaults(e, form.setError) })
  const err = form.formState.errors
  const day = (name: 'first_day' | 'last_day', label: string) => (
    <Controller control={form.control} name={name} rules={{ validate: (v) => (v === '' ? 'Choose a day' : wholeDay(v)) }} render={({ field: { value, onChange, ...f } }) => <Day label={label} required value={value} change={onChange} zone="UTC" error={err[name]?.message} field={f} />} />
  )
  return (
    <form className="form in-place" noValidate aria-label="A legal hold" onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} />
      <div className="side">
        {day('first_day', 'First day')}
        {day('last_day', 'Last day')}
      </div>
      <TextField label="What it is for" required error={Boolean(err.reason)} helperText={err.reason?.message} {...form.register('reason', { validate: (v) => v.trim() !== '' || 'Say what it is for' })} />
      <FormEnd error={save.error} busy={save.isPending} save="Hold them" />
    </form>
  )
}
