import Autocomplete from '@mui/material/Autocomplete'
import TextField from '@mui/material/TextField'
import type { Ref } from 'react'
import { useReceivers } from './receivers'

type Props = { value: string[]; change: (keys: string[]) => void; help?: string; error?: string; ref?: Ref<unknown> }

/** Chooses whom to tell: pools, people, shared contact methods. */
export function ReceiversPick({ value, change, help, error, ref }: Props) {
  const receivers = useReceivers().all
  const of = (key: string) => receivers.find((r) => r.key === key)
  return (
    <Autocomplete
      multiple
      options={receivers.map((r) => r.key)}
      value={value}
      groupBy={(key) => of(key)?.group ?? ''}
      getOptionLabel={(key) => of(key)?.name ?? 'somebody who is gone'}
      noOptionsText="Nobody of that name; pools and contact methods are made under Set-up"
      onChange={(_, keys) => change(keys)}
      renderInput={(p) => <TextField {...p} label="Tell" inputRef={ref} error={Boolean(error)} helperText={error ?? help} />}
    />
  )
}
