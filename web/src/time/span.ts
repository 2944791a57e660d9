/** The span all figures of a page are of. It is kept in the address, so that any view is a link. */
export type TimeSearch = { span?: string; from?: string; to?: string }

export type Span =
  | { live: true; span: string; minutes: number } // the last so many minutes, moving on
  | { live: false; from: Date; to: Date } // still

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
  if (typeof search.span === 'string' && minutesOf(search.span) !== null && search.span !== '1h')
    return { span: search.span }
  return {}
}

export function spanOf(t: TimeSearch): Span {
  if (t.from && t.to) return { live: false, from: new Date(t.from), to: new Date(t.to) }
  const span = t.span ?? '1h'
  return { live: true, span, minutes: minutesOf(span) ?? 60 }
}

/** The span as the service's query. */
export function queryOf(s: Span): { span?: string; from?: string; to?: string } {
  return s.live ? { span: s.span } : { from: s.from.toISOString(), to: s.to.toISOString() }
}

const clock = (d: Date) => d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })

/** The span in words: "Last hour", or "13:20 – 14:20 today". */
export function spanWords(s: Span, now: Date): string {
  if (s.live) return presets[s.span] ?? `Last ${s.span}`
  const day = (d: Date) =>
    d.toDateString() === now.toDateString()
      ? 'today'
      : d.toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short' })
  if (s.from.toDateString() === s.to.toDateString()) return `${clock(s.from)} – ${clock(s.to)} ${day(s.to)}`
  return `${clock(s.from)} ${day(s.from)} – ${clock(s.to)} ${day(s.to)}`
}

export const hourMinuteSecond = (d: Date) => d.toLocaleTimeString('en-GB')

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
