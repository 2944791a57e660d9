import { written } from './number'
import { choices } from '../choices/choices'
import { moment as short } from '../time/zone'

/** Bytes per second with the unit that suits them. */
export function rate(v: number): string {
  return `${size(v)}/s`
}

type Steps = [name: string, per: number][]

const decimalBytes: Steps = [
  ['B', 1],
  ['kB', 1e3],
  ['MB', 1e6],
  ['GB', 1e9],
  ['TB', 1e12],
]

const binaryBytes: Steps = [
  ['B', 1],
  ['KiB', 2 ** 10],
  ['MiB', 2 ** 20],
  ['GiB', 2 ** 30],
  ['TiB', 2 ** 40],
]

const bits: Steps = [
  ['bit', 1],
  ['kbit', 1e3],
  ['Mbit', 1e6],
  ['Gbit', 1e9],
  ['Tbit', 1e12],
]

/** A number with three digits that matter, or with the decimals that were chosen. */
export function number(v: number): string {
  const { decimals } = choices()
  return v.toLocaleString(
    'en',
    decimals === null
      ? { maximumSignificantDigits: 3 }
      : { minimumFractionDigits: decimals, maximumFractionDigits: decimals },
  )
}

/** A figure in the largest unit that it fills. */
export function scaled(v: number, steps: Steps): string {
  const [name, per] = steps.findLast(([, per]) => Math.abs(v) >= per) ?? steps[0]!
  return `${number(v / per)} ${name}`
}

/** Bytes with the unit that suits them: as drives are sold, by powers of ten, unless another choice was made. */
export function size(v: number): string {
  return scaled(v, choices().bytes === 'binary' ? binaryBytes : decimalBytes)
}

/** Bytes of memory: by powers of two, unless another choice was made. */
export function memory(v: number): string {
  return scaled(v, choices().bytes === 'decimal' ? decimalBytes : binaryBytes)
}

/** Bytes a second over a network, as bytes unless bits were chosen. */
export function networkRate(v: number): string {
  return choices().network === 'bits' ? `${scaled(8 * v, bits)}/s` : rate(v)
}

/** A part of a whole. Less than shows is not nothing. */
export function percent(part: number): string {
  if (part > 0 && part < 0.001) return '< 0.1 %'
  return `${(100 * part).toFixed(part < 0.1 ? 1 : 0)} %`
}

/** Milliseconds; a dash where there is no figure. */
export function milliseconds(v: number | null): string {
  return v === null ? '–' : `${written(v, { maximumSignificantDigits: 3 })} ms`
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

/** What a line carries, in bits as lines are sold, unless bytes were chosen. */
export function lineRate(bytes: number): string {
  return choices().network === 'bytes' ? rate(bytes) : `${scaled(8 * bytes, bits)}/s`
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

/** A day and minute of the zone that was chosen. */
export function moment(at: string): string {
  return short(at)
}
