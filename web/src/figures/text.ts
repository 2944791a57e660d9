/** Bytes per second with the unit that suits them. */
export function rate(v: number): string {
  return `${size(v)}/s`
}

/** Bytes with the unit that suits them, as drives are sold: powers of ten. */
export function size(v: number): string {
  const units: [string, number][] = [
    ['B', 1],
    ['kB', 1e3],
    ['MB', 1e6],
    ['GB', 1e9],
    ['TB', 1e12],
  ]
  const [name, per] = units.findLast(([, per]) => v >= per) ?? units[0]!
  return `${(v / per).toLocaleString('en', { maximumSignificantDigits: 3 })} ${name}`
}

/** A part of a whole. Less than shows is not nothing. */
export function percent(part: number): string {
  if (part > 0 && part < 0.001) return '< 0.1 %'
  return `${(100 * part).toFixed(part < 0.1 ? 1 : 0)} %`
}

/** Milliseconds; a dash where there is no figure. */
export function milliseconds(v: number | null): string {
  return v === null ? '–' : `${v.toLocaleString('en', { maximumSignificantDigits: 3 })} ms`
}

/** A host's load over 1, 5 and 15 minutes. */
export function loads(l: { load_1m: number; load_5m: number; load_15m: number }): string {
  return [l.load_1m, l.load_5m, l.load_15m].map((v) => v.toFixed(1)).join(' · ')
}

/** For what tasks of a host waited, as a sentence; nothing where its kernel does not tell. */
export function waits(pressure: { resource: string; some: number }[]): string {
  const of: Record<string, string> = { cpu: 'a CPU', memory: 'memory', io: 'storage' }
  const parts = pressure.map((p) => `for ${of[p.resource] ?? p.resource} ${percent(p.some)}`)
  return parts.length === 0 ? '' : `Some task waited ${parts.join(', ')} of the time.`
}

/** CPU numbers as a list of ranges: 12–15, 18. */
export function listOf(cpus: number[]): string {
  const sorted = [...cpus].sort((a, b) => a - b)
  const runs: [number, number][] = []
  for (const c of sorted) {
    const last = runs[runs.length - 1]
    if (last && c <= last[1] + 1) last[1] = c
    else runs.push([c, c])
  }
  return runs.map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`)).join(', ')
}

/** A day and minute of the reader's own time zone. */
export function moment(at: string): string {
  return new Date(at).toLocaleString('en-GB', { dateStyle: 'short', timeStyle: 'short' })
}
