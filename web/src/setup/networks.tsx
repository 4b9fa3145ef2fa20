import Box from '@mui/material/Box'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import TextField from '@mui/material/TextField'
import type { Schemas } from '../api/client'
import { useNetworks } from '../api/queries'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { KeptNote, useKept } from '../parts/kept'
import { useSaving } from '../parts/save'
import { Awaited } from '../parts/trouble'
import { Listing } from './listing'

type Network = Schemas['DefinedNetworkSpec']
type Values = { name: string; ours: boolean; prefixes: string; note: string }

/** Whose network an address on a path lies in. */
export function Networks() {
  const networks = useNetworks()
  if (!networks.data) return <Awaited error={networks.error} />
  return (
    <Listing<Network>
      title="Networks"
      one="network"
      note="A hop of a path is an address; here it gets an owner: us, or a provider by name. The longest range that holds an address counts. Addresses in none are of an unknown network."
      list={networks.data}
      columns={['Network', 'Whose', 'Ranges']}
      cells={(n) => [
        <>
          {n.spec.name}
          {n.spec.note && <div className="sub">{n.spec.note}</div>}
        </>,
        n.spec.ours ? 'ours' : 'a provider’s',
        n.spec.prefixes.join(', '),
      ]}
      form={(n, done) => <NetworkForm network={n} done={done} />}
      of="networks"
    />
  )
}

function NetworkForm({ network, done }: { network?: Network; done: () => void }) {
  const fresh: Values = { name: network?.spec.name ?? '', ours: network?.spec.ours ?? false, prefixes: network?.spec.prefixes.join('\n') ?? '', note: network?.spec.note ?? '' }
  const form = useForm<Values>({ defaultValues: fresh })
  const kept = useKept(form, fresh, network?.revision ?? 0, { draft: `networks/${network?.id ?? 'new'}` })
  const save = useSaving({
    of: 'networks',
    entry: network,
    form,
    kept,
    spec: (v) => ({ name: v.name, ours: v.ours, prefixes: v.prefixes.split(/[\s,;]+/).filter(Boolean), note: v.note || undefined }),
    names: { 'prefixes[': 'prefixes' },
    done,
  })
  const err = form.formState.errors
  return (
    <Box component="form" className="form" sx={{ margin: '12px 0 24px' }} onSubmit={(e) => void form.handleSubmit((v) => save.mutate(v))(e)}>
      <KeptNote kept={kept} of={network && { path: 'networks', id: network.id }} />
      <TextField label="Name" required autoFocus error={Boolean(err.name)} helperText={err.name?.message} {...form.register('name')} />
      <TextField label="Ranges, one a line" required multiline minRows={2} error={Boolean(err.prefixes)} helperText={err.prefixes?.message ?? 'Such as 198.18.0.0/15 or fd77::/16'} {...form.register('prefixes')} />
      <FormControlLabel label="It is our own" control={<Checkbox size="small" defaultChecked={form.getValues('ours')} {...form.register('ours')} />} />
      <TextField label="Note" {...form.register('note')} />
      <FormEnd error={save.error} busy={save.isPending} save={network ? 'Save' : 'Add'} leave={done} />
    </Box>
  )
}
