import { choices } from '../choices/choices'
import { clock, clockSeconds, isSameDay, momentOf, partsOf, weekday } from './zone'

/** The span all figures of a page are of. It is kept in the address, so that any view is a link. */
export type TimeSearch = { span?: string; from?: string; to?: string; live?: string }

export type Span =
  | { live: true; span: string; minutes: number; pace?: number } // the last so many minutes, moving on
  | { live: false; from: Date; to: Date } // still

/** The paces, in seconds, at which live frames can be followed. */
export const paces = [1, 2, 5, 10, 30, 60]
export const usualPace = 5

/** The pace at which whoever looks follows what is now, unless they choose another. */
export const chosenPace = (): number => choices().pace || usualPace

const presets: Record<string, string> = { '1h': 'Last hour', '24h': 'Last 24 hours', '7d': 'Last 7 days' }

/** Reads a length such as 90m, 1h or 7d in minutes; null when it is none. */
export function minutesOf(span: string): number | null {
  const m = /^(\d{1,4})(m|h|d)$/.exec(span)
  if (!m) return null
  const n = Number(m[1]) * { m: 1, h: 60, d: 1440 }[m[2] as 'm' | 'h' | 'd']
  return n > 0 && n <= 400 * 1440 ? n : null
}

/** Keeps of an address what makes a span; anything else is the last hour. */
export function readTime(search: Record<string, unknown>): TimeSearch {
  const date = (v: unknown) => (typeof v === 'string' && !Number.isNaN(Date.parse(v)) ? v : undefined)
  const from = date(search.from)
  const to = date(search.to)
  if (from && to && Date.parse(from) < Date.parse(to)) return { from, to }
  if (typeof search.live === 'string' && paces.some((p) => search.live === `${p}s`)) return { live: search.live }
  if (typeof search.span === 'string' && minutesOf(search.span) !== null && search.span !== '1h')
    return { span: search.span }
  return {}
}

export function spanOf(t: TimeSearch): Span {
  if (t.from && t.to) return { live: false, from: new Date(t.from), to: new Date(t.to) }
  const span = t.span ?? '1h'
  if (t.live) return { live: true, span, minutes: 15, pace: parseInt(t.live) }
  return { live: true, span, minutes: minutesOf(span) ?? 60 }
}

/** The span as a query of the service's book. Live frames are not in it: of now, it is the last hour. */
export function queryOf(s: Span): { span?: string; from?: string; to?: string } {
  return s.live ? { span: s.span } : { from: s.from.toISOString(), to: s.to.toISOString() }
}

/** The span as a query that live frames answer where it is of now: the newest of them, or those of a longer stretch. */
export function framesOf(s: Span, stretch?: '15m'): { span?: string; from?: string; to?: string; live?: string } {
  return s.live && s.pace ? { live: `${s.pace}s`, span: stretch } : queryOf(s)
}

/** The span in words: "Last hour", or "13:20 – 14:20 today". */
export function spanWords(s: Span, now: Date): string {
  if (s.live) return s.pace ? 'Now' : (presets[s.span] ?? `Last ${s.span}`)
  const day = (d: Date) => (isSameDay(d, now) ? 'today' : weekday(d))
  if (isSameDay(s.from, s.to)) return `${clock(s.from)} – ${clock(s.to)} ${day(s.to)}`
  return `${clock(s.from)} ${day(s.from)} – ${clock(s.to)} ${day(s.to)}`
}

const two = (n: number) => String(n).padStart(2, '0')

/** A moment as it is typed: 2026-10-11 14:20, in the zone that was chosen and on a clock of 24 hours. */
export function typed(d: Date): string {
  const p = partsOf(d)
  return `${p.year}-${two(p.month)}-${two(p.day)} ${two(p.hour)}:${two(p.minute)}`
}

/** Reads what was typed: a date with a time, or a date, or a time of the day of another moment; null for none. */
export function readTyped(text: string, day: Date): Date | null {
  const m = /^(?:(\d{4})-(\d{1,2})-(\d{1,2}))?[ T]*(?:(\d{1,2}):(\d{2}))?$/.exec(text.trim())
  if (!m || (!m[1] && !m[4])) return null
  const of = m[1] ? { year: Number(m[1]), month: Number(m[2]), day: Number(m[3]) } : partsOf(day)
  const [hour, minute] = [Number(m[4] ?? 0), Number(m[5] ?? 0)]
  return hour < 24 && minute < 60 ? momentOf({ ...of, hour, minute }) : null
}

/** A moving span as it stands at a moment, or a still one. */
export const boundsOf = (s: Span, now: Date): { from: Date; to: Date } =>
  s.live ? { from: new Date(now.getTime() - s.minutes * 60_000), to: now } : s

export const hourMinuteSecond = (d: Date) => clockSeconds(d)

/** The stretch the time ruler shows: the last day, or as much more as the span needs. */
export function rulerWindow(s: Span, now: Date): { from: Date; to: Date } {
  const day = 86_400_000
  const end = now.getTime()
  if (s.live) {
    const length = s.minutes <= 1440 ? day : s.minutes <= 7 * 1440 ? 7 * day : s.minutes * 60_000
    return { from: new Date(end - length), to: now }
  }
  for (const length of [day, 7 * day, 31 * day]) {
    if (s.from.getTime() >= end - length && s.to.getTime() <= end + 60_000)
      return { from: new Date(end - length), to: now }
  }
  const length = Math.max(2 * (s.to.getTime() - s.from.getTime()), day)
  const middle = (s.from.getTime() + s.to.getTime()) / 2
  return { from: new Date(middle - length / 2), to: new Date(middle + length / 2) }
}
