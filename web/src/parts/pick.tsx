import Autocomplete, { createFilterOptions } from '@mui/material/Autocomplete'
import TextField from '@mui/material/TextField'
import { useMemo } from 'react'

export type Choice = { id: string; name: string }

/** What a list of thousands opens with; typing finds the others. */
const filter = createFilterOptions<string>({ limit: 100 })

type Props = { label: string; value: string; change: (id: string) => void; of: Choice[]; error?: string; help?: string; disabled?: boolean; required?: boolean; width?: number }

/** Chooses one of many by name; typing searches. */
export function Pick({ label, value, change, of, error, help, disabled, required, width }: Props) {
  const names = useMemo(() => new Map(of.map((c) => [c.id, c.name])), [of])
  return (
    <Autocomplete
      options={of.map((c) => c.id)}
      value={value || null}
      disabled={disabled}
      disableClearable={required && Boolean(value)}
      filterOptions={(all, state) => filter(all, { ...state, getOptionLabel: (id) => names.get(id) ?? id })}
      getOptionLabel={(id) => names.get(id) ?? id}
      noOptionsText="None of that name"
      autoHighlight
      sx={{ width }}
      onChange={(_, id) => change(id ?? '')}
      renderInput={(params) => <TextField {...params} label={label} required={required} error={Boolean(error)} helperText={error ?? help} />}
    />
  )
}
