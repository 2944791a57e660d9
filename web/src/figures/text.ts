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
