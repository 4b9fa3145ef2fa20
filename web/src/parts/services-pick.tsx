import Autocomplete from '@mui/material/Autocomplete'
import TextField from '@mui/material/TextField'
import type { Ref } from 'react'
import { useSelected, useServices } from '../api/queries'

type Props = { value: string[]; change: (ids: string[]) => void; label: string; help?: string; error?: string; ref?: Ref<unknown>; width?: number | string }

/** Chooses services: one by one, or all at once that have a tag or are in a selection. */
export function ServicesPick({ value, change, label, help, error, ref, width }: Props) {
  const live = (useServices().data ?? []).filter((s) => !s.retired)
  const selections = useSelected().data ?? []
  const names = new Map(live.map((s) => [s.id, s.spec.name]))
  const tags = [...new Set(live.flatMap((s) => s.spec.tags ?? []))].sort()
  const many = new Map<string, { name: string; services: string[] }>([
    ...selections.map((s) => [`selection ${s.id}`, { name: `the selection ${s.name}`, services: s.services }] as const),
    ...tags.map((t) => [`tag ${t}`, { name: `all with the tag ${t}`, services: live.filter((s) => s.spec.tags?.includes(t)).map((s) => s.id) }] as const),
  ])
  return (
    <Autocomplete
      multiple
      options={[...live.map((s) => s.id), ...many.keys()]}
      value={value}
      getOptionLabel={(o) => names.get(o) ?? many.get(o)?.name ?? o}
      noOptionsText="No service of that name"
      size="small"
      sx={{ width, minWidth: width === undefined ? undefined : 280 }}
      onChange={(_, list) => change([...new Set(list.flatMap((o) => many.get(o)?.services ?? [o]))])}
      renderInput={(p) => <TextField {...p} label={label} inputRef={ref} error={Boolean(error)} helperText={error ?? help} />}
    />
  )
}
