import { TZDate } from '@date-fns/tz'
import { AdapterDateFns } from '@mui/x-date-pickers/AdapterDateFns'
import { DesktopDatePicker } from '@mui/x-date-pickers/DesktopDatePicker'
import { DesktopDateTimePicker } from '@mui/x-date-pickers/DesktopDateTimePicker'
import { LocalizationProvider } from '@mui/x-date-pickers/LocalizationProvider'
import { format as written, parse } from 'date-fns'
import { enGB } from 'date-fns/locale/en-GB'
import { useMemo, type ReactNode } from 'react'

/** Stands in a field whose date is not typed to its end: what is not a date is refused, and not dropped. */
export const noDate = 'no date'

/** Dates as the clocks of a zone show them, whatever zone the browser is in: its today, its midnights. */
function adapterOf(zone: string): typeof AdapterDateFns {
  return class extends AdapterDateFns {
    override date = ((value?: string | null) => (value === undefined ? TZDate.tz(zone) : value === null ? null : new TZDate(value, zone))) as AdapterDateFns['date']
    override parse = (value: string, as: string) => (value === '' ? null : parse(value, as, TZDate.tz(zone), { locale: this.locale }))
  }
}

function InZone({ zone, children }: { zone: string; children: ReactNode }) {
  const adapter = useMemo(() => adapterOf(zone), [zone])
  return (
    <LocalizationProvider dateAdapter={adapter} adapterLocale={enGB}>
      {children}
    </LocalizationProvider>
  )
}

type Props = {
  label: string
  /** As it is written, or empty, or noDate. */
  value: string
  change: (value: string) => void
  zone: string
  error?: string
  help?: string
  required?: boolean
  autoFocus?: boolean
  width?: number
  /** What is left of the field, as for the ref of a form's controller. */
  field?: { ref: React.Ref<HTMLInputElement>; onBlur: () => void; name?: string }
}

const dated = 'yyyy-MM-dd'
const timed = 'yyyy-MM-dd HH:mm'

/** What a field shows of a text, and the text of what it shows. */
const read = (text: string, as: string, zone: string) => (text === '' ? null : parse(text, as, TZDate.tz(zone)))
const write = (date: Date | null, as: string) => (date === null ? '' : Number.isNaN(date.getTime()) ? noDate : written(date, as))

const slots = ({ error, help, required, autoFocus, width, field }: Props) => ({
  textField: { size: 'small' as const, fullWidth: width === undefined, error: Boolean(error), helperText: error ?? help, required, autoFocus, inputRef: field?.ref, name: field?.name, sx: width === undefined ? undefined : { width } },
  field: { clearable: !required },
  openPickerIcon: { fontSize: 'small' as const },
  clearIcon: { fontSize: 'small' as const },
})

/** Around a field of a date: what is typed of it and no date yet is refused, and not dropped. */
function Whole({ value, change, field, children }: Props & { children: ReactNode }) {
  const left = (e: React.FocusEvent<HTMLElement>) => {
    if (e.currentTarget.contains(e.relatedTarget)) return
    const typed = e.currentTarget.querySelector('input')?.value ?? ''
    if (typed !== '' && value === '') change(noDate)
    if (typed === '' && value === noDate) change('')
    field?.onBlur()
  }
  return <div onBlur={left}>{children}</div>
}

/** What a field shows of a text: the same object for the same text, or the field would begin anew. */
const useRead = ({ value, zone }: Props, as: string) => useMemo(() => read(value, as, zone), [value, as, zone])

/** A day, typed or picked, as 2026-12-25. */
export function Day(props: Props) {
  const shown = useRead(props, dated)
  return (
    <InZone zone={props.zone}>
      <Whole {...props}>
        <DesktopDatePicker label={props.label} format={dated} value={shown} onChange={(d) => props.change(write(d, dated))} slotProps={slots(props)} />
      </Whole>
    </InZone>
  )
}

/** A minute, typed or picked, as 2026-12-25 14:00 on the clocks of the zone. */
export function Minute(props: Props) {
  const shown = useRead(props, timed)
  return (
    <InZone zone={props.zone}>
      <Whole {...props}>
        <DesktopDateTimePicker label={props.label} format={timed} ampm={false} value={shown} onChange={(d) => props.change(write(d, timed))} slotProps={slots(props)} />
      </Whole>
    </InZone>
  )
}

/** What a form says of a day that was not typed to its end. */
export const wholeDay = (v: string) => v !== noDate || 'Finish the date, as 2026-12-25, or clear it'
