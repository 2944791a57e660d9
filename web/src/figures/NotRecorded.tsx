import type { Uncovered } from '../api/client'

const named = 3

/** In which parts of the span some host told nothing: the figures lack what was used there. */
export function NotRecorded({ of }: { of?: Uncovered }) {
  if (!of) return null
  const parts = of.parts.slice(0, named).map((p) => `of ${p.host} from ${time(p.from)} until ${time(p.to)}${within(p)}`)
  const more =
    of.parts.length > named
      ? `, and more of ${of.hosts === 1 ? 'one host' : `${of.hosts} hosts`}: ${minutes(of.seconds)} in all`
      : ''
  return (
    <p className="mb-3 font-serif text-[15px] text-ink-2" role="status">
      Not recorded is what was used {parts.join(', ')}
      {more}.
    </p>
  )
}

function within(p: Uncovered['parts'][0]): string {
  const whole = (Date.parse(p.to) - Date.parse(p.from)) / 1000
  return whole - p.seconds >= 1 ? ` (${minutes(p.seconds)} of it)` : ''
}

function time(at: string): string {
  const d = new Date(at)
  const clock = d.toLocaleTimeString('en-GB')
  return d.toDateString() === new Date().toDateString() ? clock : `${d.toLocaleDateString('en-GB')} ${clock}`
}

function minutes(seconds: number): string {
  return seconds < 120 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60).toLocaleString('en')} min`
}
