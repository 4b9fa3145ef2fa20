import Autocomplete from '@mui/material/Autocomplete'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { Controller, type UseFormReturn } from 'react-hook-form'
import { useChecks, useMayDefine } from '../api/queries'
import { ReceiversPick } from '../notices/receivers-pick'
import { inward } from '../services/kinds'
import type { Values } from './work-form'

/** What is rarely said of planned work. */
export default function More({ form }: { form: UseFormReturn<Values> }) {
  const may = useMayDefine()
  const checks = useChecks().data ?? []
  const v = form.watch()
  const own = checks.filter((c) => !c.retired && v.services.includes(c.spec.service) && !inward(c.spec.kind))
  const err = form.formState.errors
  return (
    <>
      <Controller
        control={form.control}
        name="type"
        render={({ field }) => (
          <TextField select label="Type" {...field} helperText="Emergency work is granted by a notice and a cap of its own, where a clause has them">
            <MenuItem value="planned">planned</MenuItem>
            <MenuItem value="emergency">emergency</MenuItem>
          </TextField>
        )}
      />
      <Controller
        control={form.control}
        name="tell"
        render={({ field }) => <ReceiversPick value={field.value} change={field.onChange} ref={field.ref} error={err.tell?.message} help="when it is planned, changed and cancelled" />}
      />
      {(may || v.pause.length > 0) && (
        <Controller
          control={form.control}
          name="pause"
          render={({ field }) => (
            <Autocomplete
              multiple
              options={own.map((c) => c.id)}
              value={field.value}
              getOptionLabel={(id) => checks.find((c) => c.id === id)?.spec.name ?? id}
              noOptionsText="The services have no check that could pause"
              onChange={(_, ids) => field.onChange(ids)}
              renderInput={(p) => <TextField {...p} label="Not measured meanwhile" inputRef={field.ref} error={Boolean(err.pause)} helperText={err.pause?.message ?? 'none: measuring goes on. Only in work that every agreement takes out of its base'} />}
            />
          )}
        />
      )}
      <TextField label="Change reference" error={Boolean(err.reference)} helperText={err.reference?.message} {...form.register('reference')} />
      <TextField label="Note" multiline maxRows={4} {...form.register('note')} />
    </>
  )
}
