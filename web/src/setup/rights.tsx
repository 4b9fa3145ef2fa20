import Autocomplete from '@mui/material/Autocomplete'
import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import type { Schemas } from '../api/client'
import { useParties } from '../api/queries'

export type Rights = Pick<Schemas['NewPerson'], 'role' | 'customer' | 'teams'>

const roles: Record<Rights['role'], string> = {
  administrator: 'may do everything',
  manager: 'defines, and publishes',
  approver: 'sees drafts and the trail',
  operator: 'tries checks and plans windows',
  viewer: 'sees everything',
  customer: 'sees what was promised to them',
}

/** Whether a role can be limited to teams. */
const limited = (role: Rights['role']) => role === 'manager' || role === 'operator'

type Props = { value: Rights; change: (r: Rights) => void; of?: string; error?: string }

/** What somebody is here, and what that is limited to. A customer without a customer is not told to the server yet. */
export function RightsFields({ value, change, of, error }: Props) {
  const customers = (useParties('customer').data ?? []).filter((c) => !c.retired || c.id === value.customer)
  const teams = (useParties('team').data ?? []).filter((t) => !t.retired || value.teams?.includes(t.id))
  const whose = of ? ` of ${of}` : ''
  const table = of ? 'standard' : 'outlined'
  return (
    <Box sx={{ display: 'flex', gap: '12px', flexWrap: 'wrap', alignItems: 'start' }}>
      <TextField
        select
        variant={table}
        label={of ? undefined : 'Role'}
        value={value.role}
        sx={{ width: of ? 130 : 150 }}
        error={Boolean(error)}
        helperText={error}
        slotProps={{ htmlInput: { 'aria-label': `Role${whose}` }, select: { renderValue: (v) => v as string } }}
        onChange={(e) => {
          const role = e.target.value as Rights['role']
          change({ role, customer: role === 'customer' ? (value.customer ?? '') : undefined, teams: limited(role) ? value.teams : undefined })
        }}
>
        {Object.entries(roles).map(([r, does]) => (
          <MenuItem key={r} value={r}>
            <span>
              {r} <span className="sub">{does}</span>
            </span>
          </MenuItem>
        ))}
      </TextField>
      {value.role === 'customer' && (
        <TextField
          select
          variant={table}
          label={of ? undefined : 'Which customer'}
          value={value.customer ?? ''}
          sx={{ width: 180 }}
          slotProps={{ htmlInput: { 'aria-label': `Customer${whose}` }, select: { displayEmpty: true } }}
          onChange={(e) => change({ ...value, customer: e.target.value })}
>
          {!value.customer && (
            <MenuItem value="" disabled>
              {customers.length ? 'which one?' : 'there is none yet'}
            </MenuItem>
          )}
          {customers.map((c) => (
            <MenuItem key={c.id} value={c.id}>
              {c.spec.name}
            </MenuItem>
          ))}
        </TextField>
      )}
      {limited(value.role) && teams.length > 0 && (
        <Autocomplete
          multiple
          disableClearable
          options={teams}
          value={teams.filter((t) => value.teams?.includes(t.id))}
          getOptionLabel={(t) => t.spec.name}
          getOptionKey={(t) => t.id}
          sx={{ width: 240 }}
          onChange={(_, list) => change({ ...value, teams: list.map((t) => t.id) })}
          renderInput={(params) => <TextField {...params} variant={table} placeholder={value.teams?.length ? '' : 'services of all teams'} label={of ? undefined : 'Limited to services of'} slotProps={{ ...params.slotProps, htmlInput: { ...params.slotProps.htmlInput, 'aria-label': `Teams${whose}` } }} />}
        />
      )}
    </Box>
  )
}
