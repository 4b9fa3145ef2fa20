import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import type { ReactNode } from 'react'
import type { Schemas } from '../api/client'
import type { DefaultField } from './defaults'
import { Choice, NumberField, Words, faultAt, type DraftForm } from './kind-fields'
import { inward } from './kinds'

/** How many failures it takes: in a row at one location, or within a window over all of them. */
export function BelieveFields({ form, origin, effect }: { form: DraftForm; effect: Schemas['Effect'] | undefined; origin: (name: DefaultField) => ReactNode }) {
  const v = form.watch()
  const here = !inward(v.kind)
  const rolling = Boolean(v.rolling)
  const choose = (rule: string) => {
    const places = Math.max(1, v.locations.length)
    form.setValue('rolling', rule === 'rolling' ? { runs: places > 1 ? 4 : 3, locations: Math.min(2, places), window_s: 5 * Number(v.interval_s) } : undefined, { shouldDirty: true })
    if (rule === 'rolling') {
      form.setValue('quorum', 'any')
      form.setValue('retry_s', undefined)
    }
  }
  return (
    <fieldset>
      <legend>When it is believed</legend>
      <TextField select label="A failure is believed" value={rolling ? 'rolling' : 'row'} onChange={(e) => choose(e.target.value)} helperText={origin('rolling')}>
        <MenuItem value="row">when it comes so many times in a row, at each location by itself</MenuItem>
        <MenuItem value="rolling">when so many runs fail within a window, of all locations together</MenuItem>
      </TextField>
      {rolling ? (
        <>
          <div className="side">
            <NumberField form={form} name="rolling.runs" label="Failed runs" unit="" min={1} max={10000} />
            <NumberField form={form} name="rolling.locations" label="From locations, at least" unit="" min={1} max={1000} />
            <NumberField form={form} name="rolling.window_s" label="Within" unit="s" min={1} max={86400} />
          </div>
          {effect?.window && <p className={effect.too_short ? 'trouble' : 'sub'}>{effect.window}</p>}
        </>
      ) : (
        <div className="side">
          <NumberField form={form} name="confirm" label="Failures to believe it" unit="" min={1} max={100} help={origin('confirm')} />
          {here && <Words form={form} name="retry_s" label="Look again after, s" help={origin('retry_s') ?? 'Empty: at the interval'} />}
          <NumberField form={form} name="recover" label="Good ones to recover" unit="" min={1} max={100} help={origin('recover')} />
        </div>
      )}
      {faultAt(form, 'rolling') && <p className="trouble">{faultAt(form, 'rolling')}</p>}
      <div className="side">
        <NumberField form={form} name="stale_after_s" label="Silent after" unit="s" min={5} max={604800} help={origin('stale_after_s')} />
        {here && <Words form={form} name="quorum" label={rolling ? 'Locations down at once' : 'Locations that must agree'} help={origin('quorum') ?? 'any, majority, all or a number'} />}
        <Choice form={form} name="role" label="Role" of={{ decides: 'decides the service’s state', informs: 'informs only' }} />
      </div>
      {here && <div className="consequence sub two-lines">{effect?.detection}</div>}
    </fieldset>
  )
}
