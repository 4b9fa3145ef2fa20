import Autocomplete from '@mui/material/Autocomplete'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import type { Schemas } from '../api/client'

type Dependency = Schemas['Dependency']

type Props = { value: Dependency[]; change: (list: Dependency[]) => void; others: Schemas['DefinedServiceSpec'][]; error?: string; narrow?: boolean }

/** What a service needs: groups of others, and how many of each. */
export function DependsFields({ value, change, others, error, narrow }: Props) {
  const name = (id: string) => others.find((o) => o.id === id)?.spec.name ?? id
  const set = (i: number, d: Dependency) => change(value.map((x, n) => (n === i ? d : x)))
  return (
    <>
      {value.map((d, i) => (
        <Box className="side" key={i} sx={{ gridTemplateColumns: narrow ? 'minmax(0, 1fr)' : 'minmax(0, 2fr) 1fr auto' }} data-group={i}>
          <Autocomplete
            multiple
            options={others.map((o) => o.id)}
            value={d.services}
            getOptionLabel={name}
            noOptionsText="No service of that name"
            onChange={(_, services) => set(i, { ...d, services, need: d.need && d.need >= services.length ? undefined : d.need })}
            renderInput={(p) => <TextField {...p} label={`Group ${i + 1}`} />}
          />
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'start' }}>
            <TextField
              label="Needed"
              type="number"
              sx={{ flex: 1 }}
              value={d.need || d.services.length}
              slotProps={{ htmlInput: { min: 1, max: d.services.length } }}
              onChange={(e) => set(i, { ...d, need: Number(e.target.value) === d.services.length ? undefined : Number(e.target.value) })}
            />
            <Button variant="text" onClick={() => change(value.filter((_, n) => n !== i))} aria-label={`Take out group ${i + 1}`}>
              Take out
            </Button>
          </Box>
        </Box>
      ))}
      {error && <p className="trouble">{error}</p>}
      <div>
        <Button onClick={() => change([...value, { services: [] }])}>Add a dependency</Button>
      </div>
    </>
  )
}
