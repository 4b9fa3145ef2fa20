import Autocomplete, { createFilterOptions } from '@mui/material/Autocomplete'
import TextField from '@mui/material/TextField'
import { useMemo } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { partyPaths, useMay, useParties, type PartyKind } from '../api/queries'

/** The name of a team, customer or contract by its id. */
export function usePartyName(kind: PartyKind): (id: string | undefined) => string {
  const list = useParties(kind).data
  const names = useMemo(() => new Map((list ?? []).map((p) => [p.id, p.spec.name])), [list])
  return (id) => (id ? (names.get(id) ?? id) : '')
}

type Option = { id: string; name: string; fresh?: boolean }

const filter = createFilterOptions<Option>({ stringify: (o) => o.name })

type Props = { kind: PartyKind; label: string; value: string; change: (id: string) => void; error?: string; help?: string; blank?: string; customer?: string }

/** Chooses a team, customer or contract by name; one that is not there yet is made on the spot, a contract with its customer. */
export function PartyPick({ kind, label, value, change, error, help, blank, customer }: Props) {
  const list = useParties(kind).data ?? []
  const may = useMay()('define')
  const make = useChange({
    mutationFn: (name: string) => ask(api.POST(partyPaths[kind], { body: { spec: { name, customer: customer || undefined } } })),
    again: ['parties'],
    onSuccess: ({ id }) => change(id),
  })
  const options: Option[] = list.filter((p) => p.id === value || (!p.retired && (!('customer' in p.spec) || kind !== 'contract' || (p.spec.customer ?? '') === (customer ?? '')))).map((p) => ({ id: p.id, name: p.spec.name }))
  const chosen = value ? (options.find((o) => o.id === value) ?? { id: value, name: value }) : null
  return (
    <Autocomplete<Option>
      options={options}
      value={chosen}
      loading={make.isPending}
      getOptionLabel={(o) => o.name}
      getOptionKey={(o) => o.id || o.name}
      isOptionEqualToValue={(a, b) => a.id === b.id}
      filterOptions={(all, state) => {
        const found = filter(all, state)
        const text = state.inputValue.trim()
        if (may && text && !all.some((o) => o.name.toLowerCase() === text.toLowerCase())) found.push({ id: '', name: text, fresh: true })
        return found
      }}
      renderOption={({ key, ...props }, o) => (
        <li key={key} {...props}>
          {o.fresh ? `Add the ${kind} ${o.name}` : o.name}
        </li>
      )}
      noOptionsText={`No ${kind} of that name`}
      onChange={(_, o) => {
        if (o?.fresh) make.mutate(o.name)
        else change(o?.id ?? '')
      }}
      renderInput={(params) => <TextField {...params} label={label} placeholder={blank} error={Boolean(error ?? make.error)} helperText={error ?? make.error?.message ?? help} />}
    />
  )
}
