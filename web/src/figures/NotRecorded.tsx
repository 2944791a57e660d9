import { clockSeconds, date, isSameDay } from '../time/zone'
import type { Uncovered } from '../api/client'

const named = 3 // parts, and hosts of each

type Part = Uncovered['parts'][0]

/** In which parts of the span some host told nothing: the figures lack what was used there. */
export function NotRecorded({ of }: { of?: Uncovered }) {
  if (!of) return null
  return (
    <p className="mb-3 font-serif text-[15px] text-ink-2" role="status">
      {notRecorded(of)}
    </p>
  )
}

export function notRecorded(of: Uncovered): string {
  const groups = together(of.parts)
  const more =
    groups.length > named || of.parts.length < of.hosts
      ? `, and more of ${of.hosts === 1 ? 'one host' : `${of.hosts} hosts`}: ${minutes(of.seconds)} in all`
      : ''
  const what = of.of_live_frames ? 'No live frames came' : 'Nothing was recorded'
  return `${what} ${groups.slice(0, named).map(told).join(', ')}${more}.`
}

/** Parts that are the same for several hosts, to the second. */
function together(parts: Part[]): Part[][] {
  const groups = new Map<string, Part[]>()
  for (const p of parts) {
    const key = [p.from, p.to].map((at) => Math.floor(Date.parse(at) / 1000)).join() + ',' + Math.round(p.seconds)
    groups.set(key, [...(groups.get(key) ?? []), p])
  }
  return [...groups.values()]
}

function told(parts: Part[]): string {
  const hosts = parts.map((p) => p.host)
  if (hosts.length > named + 1) hosts.splice(named, hosts.length, `${hosts.length - named} more`)
  const p = parts[0]!
  const whole = (Date.parse(p.to) - Date.parse(p.from)) / 1000
  const lacking = whole - p.seconds >= 1 ? ` for ${minutes(p.seconds)}` : ''
  return `of ${new Intl.ListFormat('en-GB').format(hosts)} from ${time(p.from)} until ${time(p.to)}${lacking}`
}

function time(at: string): string {
  const d = new Date(at)
  return isSameDay(d, new Date()) ? clockSeconds(d) : `${date(d)} ${clockSeconds(d)}`
}

function minutes(seconds: number): string {
  return seconds < 120 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60).toLocaleString('en')} min`
}
