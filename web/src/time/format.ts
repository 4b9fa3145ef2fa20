/** "1 h 04 min 09 s", "3 min 20 s", "12 s": whole seconds, cut off; as core/span.Words writes it on the server. */
export function duration(ms: number): string {
  if (ms < 0) return `−${durationUp(-ms)}`
  return ms > 0 && ms < 1000 ? `${Math.round(ms)} ms` : written(Math.floor(ms / 1000))
}

/** The same rounded up: downtime is never shown as less than it is. */
export function durationUp(ms: number): string {
  if (ms < 0) return `−${duration(-ms)}`
  return ms > 0 && ms < 1000 ? `${Math.round(ms)} ms` : written(Math.ceil(ms / 1000))
}

/** To the millisecond where it is not whole seconds, so that what stands below one another adds up: "5 min 52.434 s". */
export function durationExact(ms: number): string {
  if (ms < 0) return `−${durationExact(-ms)}`
  const rest = ms % 1000
  if (rest === 0) return written(ms / 1000)
  const whole = Math.floor(ms / 1000)
  const part = `.${String(rest).padStart(3, '0')} s`
  // Seconds that are none stand there too.
  return whole % 60 === 0 ? written(whole + 1).replace(/1 s$/, `0${part}`) : written(whole).replace(/ s$/, part)
}

function written(s: number): string {
  const two = (n: number) => String(n).padStart(2, '0')
  const days = s >= 48 * 3600 ? Math.floor(s / 86_400) : 0
  const h = Math.floor(s / 3600) - days * 24
  const min = Math.floor((s % 3600) / 60)
  const sec = s % 60
  const parts: string[] = []
  if (days) parts.push(`${days} d`)
  if (h || (days && (min || sec))) parts.push(`${h} h`)
  if (min || (parts.length && sec)) parts.push(`${parts.length ? two(min) : min} min`)
  if (sec || !parts.length) parts.push(`${parts.length ? two(sec) : sec} s`)
  return parts.join(' ')
}

const formats = new Map<string, Intl.DateTimeFormat>()

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options)
  let f = formats.get(key)
  if (!f) {
    f = new Intl.DateTimeFormat('en-GB', { timeZone: zone, hourCycle: 'h23', ...options })
    formats.set(key, f)
  }
  return f
}

const at = (t: string | number | Date) => (t instanceof Date ? t : new Date(t))

/** "Tue 24 Nov 2026, 14:05:10". */
export const fullTime = (t: string | number | Date, zone: string) =>
  format(zone, { weekday: 'short', day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(at(t))

/** "24 Nov, 14:05". */
export const shortTime = (t: string | number | Date, zone: string) => format(zone, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' }).format(at(t))

/** "24 Nov, 14:05:10": where a length stands beside it. */
export const secondTime = (t: string, zone: string) => format(zone, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(at(t))

/** What lies between two instants as secondTime prints them. */
export const between = (from: string, to: string) => duration((Math.floor(Date.parse(to) / 1000) - Math.floor(Date.parse(from) / 1000)) * 1000)

/** "Fri 27 Nov about 15:10". */
export const aboutTime = (t: string, zone: string) =>
  `${format(zone, { weekday: 'short', day: 'numeric', month: 'short' }).format(at(t))} about ${format(zone, { hour: '2-digit', minute: '2-digit' }).format(at(t))}`

/** "14:05:10". */
export const clock = (t: string | number | Date, zone: string) => format(zone, { hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(at(t))

/** "14:05". */
export const clockMinute = (t: string | number | Date, zone: string) => format(zone, { hour: '2-digit', minute: '2-digit' }).format(at(t))

/** "3 Nov". */
export const shortDay = (t: string | number | Date, zone: string) => format(zone, { day: 'numeric', month: 'short' }).format(at(t))

/** "Tue 3 Nov, 14:05": where the day of the week matters. */
export const weekTime = (t: string | number | Date, zone: string) => format(zone, { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' }).format(at(t))

/** "2026-11-03 14:05", as it can be typed again. */
export function wallMinute(t: string | number | Date, zone: string): string {
  const p = Object.fromEntries(format(zone, { year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit' }).formatToParts(at(t)).map((x) => [x.type, x.value]))
  return `${p.year}-${p.month}-${p.day} ${p.hour}:${p.minute}`
}

/** Seconds as a field of minutes shows them, so that none is lost: "90", "1:30". */
export const minutesOf = (s: number) => (s % 60 === 0 ? String(s / 60) : `${Math.floor(s / 60)}:${String(Math.round(s % 60)).padStart(2, '0')}`)

/** The seconds that a field of minutes says; NaN where it says none. */
export function secondsIn(text: string): number {
  const said = /^(\d{1,6})(?::([0-5]\d))?$/.exec(text.trim())
  const s = said ? Number(said[1]) * 60 + Number(said[2] ?? 0) : 0
  return s > 0 ? s : Number.NaN
}

/** What a field of minutes wants. */
export const wantsMinutes = 'Whole minutes, or with seconds as 1:30'

/** The minute of a wall time of a definition, as a field shows it. */
export const minuteIn = (wall: string) => wall.slice(0, 16).replace('T', ' ')

/** The wall time that a field of a minute says; one that was not touched keeps its seconds. */
export const wallIn = (minute: string, was?: string) => (was && minuteIn(was) === minute ? was : `${minute.replace(' ', 'T')}:00`)

/** "2026-11-03T14:05:10", as a definition says it. */
export const wallSecond = (t: string, zone: string) => `${wallMinute(t, zone).replace(' ', 'T')}:${clock(t, zone).slice(-2)}`

/** "Nov", or "Nov 2026" in January and where it stands first. */
export const shortMonth = (t: number, zone: string, withYear: boolean) => format(zone, withYear ? { month: 'short', year: 'numeric' } : { month: 'short' }).format(at(t))

/** The instants at which the calendar days of [from, to) begin in a zone. */
export function dayStarts(from: number, to: number, zone: string): { at: number; day: number; weekend: boolean }[] {
  const f = format(zone, { day: 'numeric', weekday: 'short', hour: '2-digit' })
  const read = (t: number) => {
    const parts = Object.fromEntries(f.formatToParts(t).map((p) => [p.type, p.value]))
    return { day: Number(parts.day), weekend: parts.weekday === 'Sat' || parts.weekday === 'Sun' }
  }
  const out: { at: number; day: number; weekend: boolean }[] = []
  const hour = 3_600_000
  const quarter = hour / 4 // clocks differ from UTC by whole quarters
  let last = -1
  for (let t = from; t < to; ) {
    const { day, weekend } = read(t)
    const begins = day !== last
    if (begins && last >= 0) {
      t = Math.floor(t / quarter) * quarter
      while (read(t - quarter).day === day) t -= quarter
    }
    if (begins) out.push({ at: t, day, weekend })
    // No day is shorter than 22 hours; the first one may have begun before.
    t += begins && last >= 0 ? 22 * hour : hour
    last = day
  }
  return out
}

/** A percentage as the server truncated it, or a dash. */
export const percent = (p: string | null | undefined) => (p ? `${p} %` : '–')

/** A zone where browsers know it, and another where they do not. */
export function zoned(zone: string, otherwise: string): string {
  try {
    format(zone, {})
    return zone
  } catch {
    return otherwise
  }
}
