import { written } from './number'
import { entry } from './register'
import { choices } from '../choices/choices'
import { memory, networkRate, rate, scaled, size } from './text'

/** How a resource's means are shown in one column: a unit, what one of it holds, and decimals. */
export type Unit = { name: string; per: number; digits: number }

const gib = 2 ** 30

/** What CPU time can be told as a part of: the CPUs of a host, or of all; and the limit of a workload. */
export type CPUsOf = { cpus: number; whose: string; limit?: number; limitName?: string }

/** The CPUs of a host, by its name, or of "all hosts"; nothing where they are not known. */
export function cpusOf(host: string, cpus: number | null | undefined): CPUsOf | undefined {
  return cpus ? { cpus, whose: host === 'all hosts' ? host : 'the host' } : undefined
}

/** What a workload's CPU time can be told as a part of. */
export function cpusOfWorkload(w: { host_cpus: number; may_use_cpus: number; may_use_by: string }): CPUsOf | undefined {
  const own = cpusOf('', w.host_cpus)
  if (!own || w.may_use_by === 'host') return own
  return { ...own, limit: w.may_use_cpus, limitName: w.may_use_by === 'cpuset' ? 'its CPUs' : 'its limit' }
}

/** CPU time as the percentage that was chosen, of what is known; null where cores were chosen. */
function cpuPercent(of: CPUsOf | undefined): Unit | null {
  const { cpu, decimals } = choices()
  if (cpu === '' || cpu === 'cores') return null
  if (cpu === 'limit' && of?.limit) return { name: `% of ${of.limitName}`, per: of.limit / 100, digits: decimals ?? 1 }
  if (cpu !== 'percent' && of) return { name: `% of ${of.whose}`, per: of.cpus / 100, digits: decimals ?? 1 }
  return { name: '% of a CPU', per: 0.01, digits: decimals ?? 0 }
}

/**
 * The unit that suits a resource of this capacity (its mean; null where it is not known). CPU time is told as a part of
 * something where that was chosen and is given.
 */
export function unitOf(resource: string, capacity: number | null, of?: CPUsOf): Unit {
  const e = entry(resource)
  const { bytes, network, decimals } = choices()
  const digits = (usual: number) => decimals ?? usual
  if (e.in_bits && network !== 'bytes') return { name: 'Gbit/s', per: 1e9 / 8, digits: digits(2) }
  const part = resource === 'cpu' && cpuPercent(of)
  if (part) return part
  switch (e.steps) {
    case 'binary':
      if (bytes === 'decimal')
        return capacity !== null && capacity < 4e9
          ? { name: 'MB', per: 1e6, digits: digits(0) }
          : { name: 'GB', per: 1e9, digits: digits(1) }
      return capacity !== null && capacity < 4 * gib
        ? { name: 'MiB', per: 2 ** 20, digits: digits(0) }
        : { name: 'GiB', per: gib, digits: digits(1) }
    case 'decimal':
      return bytes === 'binary'
        ? { name: 'MiB/s', per: 2 ** 20, digits: digits(1) }
        : { name: 'MB/s', per: 1e6, digits: digits(1) }
    case 'seconds':
      return { name: 's a second', per: 1e6, digits: digits(2) }
    case 'hourly':
      return capacity !== null && capacity > 20_000
        ? { name: 'kW', per: 1000, digits: digits(1) }
        : { name: 'W', per: 1, digits: digits(0) }
    default:
      return { name: counted(e), per: 1, digits: digits(1) }
  }
}

/** A unit that is a number of what the title names is written as the title is. */
function counted(e: { title: string; mean_unit: string }): string {
  if (e.mean_unit === 'per_second') return 'a second'
  if (e.mean_unit === 'count') return ''
  if (e.mean_unit === 'percent') return '%'
  return `${e.title}s`.toLowerCase() === e.mean_unit ? `${e.title}s` : e.mean_unit
}

/** A measure's name for people. */
export function title(measure: string): string {
  return entry(measure).title
}

/** A resource in the middle of a sentence: only what is an abbreviation keeps its capitals. */
export function inSentence(resource: string): string {
  return title(resource)
    .split(' ')
    .map((word) => (word === word.toUpperCase() ? word : word.toLowerCase()))
    .join(' ')
}

/** A figure in a unit. Never an empty text: a figure that is not there is the caller's to show as such. */
export function figure(value: number, unit: Unit): string {
  const text = written(value / unit.per, {
    minimumFractionDigits: unit.digits,
    maximumFractionDigits: unit.digits,
  })
  return /^-[0.,]*$/.test(text) ? text.slice(1) : text
}

/** A round figure, as quotas and capacities are. */
export function whole(value: number, unit: Unit): string {
  return written(value / unit.per, { maximumFractionDigits: unit.digits })
}

/** A number a little above the largest, round in its unit: the end of a column's scale. */
export function roundScale(largest: number, unit: Unit): number {
  const v = largest / unit.per
  if (!(v > 0)) return unit.per
  const step = 10 ** Math.floor(Math.log10(v))
  for (const m of [1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10]) {
    if (m * step >= v) return m * step * unit.per
  }
  return 10 * step * unit.per
}

/** The colour of a tenant: the one that was chosen for it, or its usual one, stable for it; unassigned use is grey. */
export function tenantColour(colour: number, tenant?: string): string {
  const own = tenant && choices().colours?.[tenant]
  if (own) return own
  return colour >= 1 && colour <= 8 ? `var(--t${colour})` : 'var(--kernel)'
}

const hours: [string, number][] = [
  ['Wh', 1],
  ['kWh', 1000],
  ['MWh', 1e6],
]

/** A mean of a measure with the unit that suits it, such as "2.73 cores" or "368 MB/s". */
export function meanText(measure: string, v: number, of?: CPUsOf): string {
  const e = entry(measure)
  const { decimals } = choices()
  const fixed = (v: number, usual: number) => v.toFixed(decimals ?? usual)
  const part = measure === 'cpu' && cpuPercent(of)
  if (part) return `${fixed(v / part.per, part.digits)} ${part.name}`
  switch (e.steps) {
    case 'binary':
      return memory(v)
    case 'decimal':
      return e.in_bits ? networkRate(v) : rate(v)
    case 'seconds':
      return `${fixed(v / 1e6, 2)} s a second`
    case 'hourly':
      return v >= 1000 ? `${fixed(v / 1000, 2)} kW` : `${fixed(v, 1)} W`
    default:
      return `${many(v, decimals)} ${counted(e)}`.trim()
  }
}

/** A number of things: of many, parts of one do not matter. */
function many(v: number, decimals: number | null): string {
  const digits = decimals ?? (Math.abs(v) >= 1000 ? 0 : 2)
  return written(v, { minimumFractionDigits: digits, maximumFractionDigits: digits })
}

/** An amount of a measure over a span with the unit that suits it. */
export function amountText(measure: string, v: number): string {
  const e = entry(measure)
  if (e.steps === 'binary') return memory(v)
  if (e.steps === 'decimal') return size(v)
  if (e.steps === 'seconds') return `${written(v / 1e6, { maximumFractionDigits: 2 })} s`
  if (e.steps === 'hourly') return scaled(v / 3600, hours)
  if (e.unit.endsWith('_seconds'))
    return `${written(v, { maximumFractionDigits: 1, minimumFractionDigits: 1 })} ${e.title} s`
  return written(v, { maximumFractionDigits: 0 })
}

/** What was used of a resource, as an amount; a dash where there is no figure. */
export function amountOf(use: { resource: string; amount: number | null } | undefined): string {
  return use === undefined || use.amount === null ? '–' : amountText(use.resource, use.amount)
}
