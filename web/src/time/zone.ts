import { choices, usualZone } from '../choices/choices'

type At = Date | string | number

const formats = new Map<string, Intl.DateTimeFormat>()

/** Formats in the zone and on the clock that were chosen. Making one is slow, so that they are kept. */
function formatOf(options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const { zone, clock } = choices()
  const whole: Intl.DateTimeFormatOptions = {
    ...options,
    timeZone: zone || usualZone(),
    hourCycle: options.hourCycle ?? (clock === '12' ? 'h12' : 'h23'),
  }
  const key = JSON.stringify(whole)
  let format = formats.get(key)
  if (!format) {
    format = new Intl.DateTimeFormat('en-GB', whole)
    formats.set(key, format)
  }
  return format
}

const as = (options: Intl.DateTimeFormatOptions) => (at: At) => formatOf(options).format(new Date(at))

/** 14:20 */
export const clock = as({ hour: '2-digit', minute: '2-digit' })
/** 14:20:05 */
export const clockSeconds = as({ hour: '2-digit', minute: '2-digit', second: '2-digit' })
/** 11/10 */
export const dayAndMonth = as({ day: '2-digit', month: '2-digit' })
/** Sun 11 Oct */
export const weekday = as({ weekday: 'short', day: 'numeric', month: 'short' })
/** 11/10/2026 */
export const date = as({ day: '2-digit', month: '2-digit', year: 'numeric' })
/** 11/10/2026, 14:20 */
export const moment = as({ dateStyle: 'short', timeStyle: 'short' })
/** 11/10/2026, 14:20:05 */
export const momentSeconds = as({ dateStyle: 'short', timeStyle: 'medium' })

/** The zone in which times are shown and typed. */
export const zoneName = (): string => choices().zone || usualZone()

export type Parts = { year: number; month: number; day: number; hour: number; minute: number }

/** A moment by the calendar of the zone; months from 1 on. */
export function partsOf(at: At): Parts {
  const parts: Record<string, number> = {}
  const format = formatOf({
    year: 'numeric',
    month: 'numeric',
    day: 'numeric',
    hour: 'numeric',
    minute: 'numeric',
    hourCycle: 'h23',
  })
  for (const p of format.formatToParts(new Date(at))) parts[p.type] = Number(p.value)
  return { year: parts.year!, month: parts.month!, day: parts.day!, hour: parts.hour!, minute: parts.minute! }
}

/** Tells whether two moments are of one day of the zone. */
export function isSameDay(a: At, b: At): boolean {
  return date(a) === date(b)
}

const utc = (p: Parts) => Date.UTC(p.year, p.month - 1, p.day, p.hour, p.minute)

/**
 * The moment that the calendar of the zone calls so. Null for a date or time that there is none of, such as one that is
 * left out where clocks are put forward; of one that comes twice it is the first.
 */
export function momentOf(p: Parts): Date | null {
  const wanted = utc(p)
  // The zone is at most 14 hours off; what is found is checked, since the distance changes where clocks do.
  let found: number | null = null
  for (const probe of [wanted - 86_400_000, wanted, wanted + 86_400_000]) {
    const off = utc(partsOf(probe)) - Math.floor(probe / 60_000) * 60_000
    const at = wanted - off
    const is = partsOf(at)
    const isIt = (Object.keys(p) as (keyof Parts)[]).every((k) => is[k] === p[k])
    if (isIt && (found === null || at < found)) found = at
  }
  return found === null ? null : new Date(found)
}

/** Reads what a field of date and time holds, in the zone; undefined for nothing, or for a time that there is none of. */
export function readField(text: string): string | undefined {
  const m = /^(\d+)-(\d\d)-(\d\d)T(\d\d):(\d\d)/.exec(text)
  if (!m) return undefined
  const [year, month, day, hour, minute] = m.slice(1).map(Number) as [number, number, number, number, number]
  return momentOf({ year, month, day, hour, minute })?.toISOString()
}

/** The day that a moment is on in a zone of its own, whatever zone was chosen: a statement's window has one. */
export const dayIn = (at: At, zone: string): string =>
  new Intl.DateTimeFormat('en-GB', { dateStyle: 'long', timeZone: zone }).format(new Date(at))
