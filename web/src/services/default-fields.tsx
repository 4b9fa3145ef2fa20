import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import type { Schemas } from '../api/client'
import { useChecks, useLocations } from '../api/queries'
import { followed } from './defaults'

type Defaults = Schemas['CheckDefaults']

/** Values that the checks of a service follow; an empty field is none. */
export function DefaultFields({ service, value, change }: { service: string; value: Defaults; change: (d: Defaults) => void }) {
  const checks = useChecks()
  const places = useLocations()
  const own = (checks.data ?? []).filter((c) => !c.retired && c.spec.service === service)
  const before = own.filter((c) => (c.spec.follows ?? []).length > 0)
  const moved = before.filter((c) => followed(c.spec, value).length < (c.spec.follows ?? []).length)
  const number = (name: 'interval_s' | 'timeout_ms' | 'stale_after_s' | 'confirm' | 'recover' | 'retry_s', label: string, unit = '') => (
    <TextField
      label={label}
      type="number"
      placeholder="none"
      value={value[name] || ''}
      slotProps={{ htmlInput: { min: 0 }, input: { endAdornment: unit }, inputLabel: { shrink: true } }}
      onChange={(e) => change({ ...value, [name]: Number(e.target.value) || undefined })}
    />
  )
  const rule = value.rolling
  const part = (name: keyof Schemas['Rolling'], label: string, unit = '') =>
    rule && <TextField label={label} type="number" value={rule[name] || ''} slotProps={{ htmlInput: { min: 1 }, input: { endAdornment: unit } }} onChange={(e) => change({ ...value, rolling: { ...rule, [name]: Number(e.target.value) } })} />
  const live = (places.data ?? []).filter((l) => !l.retired)
  const from = value.locations ?? []
  return (
    <fieldset>
      <legend>What its checks follow</legend>
      <div className="sub">Each check follows these unless it says its own. An empty field leaves it to the check.</div>
      <div className="side">
        {number('interval_s', 'Every', 's')}
        {number('timeout_ms', 'Timeout', 'ms')}
        {number('stale_after_s', 'Silent after', 's')}
      </div>
      <TextField select label="A failure is believed" value={rule ? 'rolling' : 'row'} onChange={(e) => change({ ...value, rolling: e.target.value === 'rolling' ? { runs: 4, locations: 2, window_s: 300 } : undefined, retry_s: e.target.value === 'rolling' ? undefined : value.retry_s })}>
        <MenuItem value="row">as each check says, or in a row as below</MenuItem>
        <MenuItem value="rolling">when so many runs fail within a window</MenuItem>
      </TextField>
      {rule ? (
        <div className="side">
          {part('runs', 'Failed runs')}
          {part('locations', 'From locations, at least')}
          {part('window_s', 'Within', 's')}
        </div>
      ) : (
        <div className="side">
          {number('confirm', 'Failures to believe it')}
          {number('retry_s', 'Look again after', 's')}
          {number('recover', 'Good ones to recover')}
        </div>
      )}
      <TextField label="Locations that must agree" placeholder="none" helperText="any, majority, all or a number" value={value.quorum ?? ''} slotProps={{ inputLabel: { shrink: true } }} onChange={(e) => change({ ...value, quorum: e.target.value || undefined })} />
      <div role="group" aria-label="Measured from">
        <div className="sub">Measured from{from.length === 0 && ': as each check says'}</div>
        {live.map((l) => (
          <FormControlLabel
            key={l.id}
            label={l.spec.name}
            control={<Checkbox size="small" checked={from.includes(l.id)} onChange={(_, on) => change({ ...value, locations: on ? [...from, l.id] : from.filter((x) => x !== l.id) })} />}
          />
        ))}
      </div>
      <div className="consequence sub">
        {before.length === 0
          ? `None of its ${own.length} checks follows a default yet: choose “follow” at a field of a check. New ones begin with all of them.`
          : `${before.length} of its ${own.length} checks ${before.length === 1 ? 'follows' : 'follow'}: ${before.map((c) => c.spec.name).join(', ')}. ${moved.length === 0 ? 'Nothing changes for them.' : `Saving opens a new revision of ${moved.map((c) => c.spec.name).join(', ')}.`}`}
      </div>
    </fieldset>
  )
}
