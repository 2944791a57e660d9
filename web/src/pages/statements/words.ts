import { written } from '../../figures/number'
import type { Statement, StatementLine } from '../../api/client'
import { title } from '../../figures/units'
import { dayIn } from '../../time/zone'

/** The units of prices in words. */
const units: Record<string, string> = {
  core_hours: 'core-hours',
  gb_hours: 'GB-hours',
  tb: 'TB',
  gpu_hours: 'GPU-hours',
  kwh: 'kWh',
}

export const unitWords = (unit: string): string => units[unit] ?? unit.replaceAll('_', ' ')

/** A decimal number as people read it: to two places, or four where it is small. The exact one is kept beside it. */
export function decimal(text: string): string {
  const v = Number(text)
  if (v !== 0 && Math.abs(v) < 0.00005) return '≈ 0'
  const digits = v !== 0 && Math.abs(v) < 0.01 ? 4 : 2
  return written(v, { minimumFractionDigits: digits, maximumFractionDigits: digits })
}

/** A cost with its currency. */
export const money = (cost: string, currency: string): string => `${decimal(cost)} ${currency}`

const whats: Record<string, string> = {
  used: 'used',
  kernel: 'the kernel’s part',
  idle: 'stood idle',
  steal: 'taken by the hypervisor',
  residual: 'nobody’s share',
  manual: 'corrected by hand',
}

/** What a line is of, in words. */
export function lineWords(l: StatementLine): string {
  const what = whats[l.what] ?? l.what
  return l.corrects && l.what !== 'manual' ? `${what}, corrected` : what
}

const splits: Record<string, string> = {
  use: 'on a host is split as each used the host',
  equal: 'is split equally over all that used anything',
  shares: 'is split by shares that are set',
}

/** How what is nobody's is split, in a sentence. */
export function splitWords(split: string, keepIdle: boolean): string {
  const how = splits[split]
  if (!how) return 'What the kernel had and what stood idle is not split: it is in the statement of what is shared.'
  if (keepIdle) return `What the kernel had ${how}; what stood idle is not split.`
  return `What the kernel had and what stood idle ${how}.`
}

/** What lines can be added up by, with the heads of their columns. */
export const dimensions = {
  host: 'Host',
  pools: 'Pools',
  kind: 'Kind',
  owner: 'Owner',
  label: 'Label',
  what: 'What',
} as const

export type Dimension = keyof typeof dimensions

/** The lines of a statement added up by resource and a dimension: in their order, the largest first. */
export function grouped(lines: StatementLine[], by: Dimension) {
  const groups = new Map<string, { resource: string; value: string; unit: string; quantity: number; cost: number }>()
  const order: string[] = []
  for (const l of lines) {
    if (!order.includes(l.resource)) order.push(l.resource)
    const value = by === 'what' ? lineWords(l) : l[by]
    const key = JSON.stringify([l.resource, value])
    const g = groups.get(key) ?? { resource: l.resource, value, unit: l.unit, quantity: 0, cost: 0 }
    groups.set(key, { ...g, quantity: g.quantity + Number(l.quantity), cost: g.cost + Number(l.cost) })
  }
  return [...groups.values()].sort(
    (a, b) => order.indexOf(a.resource) - order.indexOf(b.resource) || b.quantity - a.quantity,
  )
}

/** Whose a statement is, as a heading. */
export const whose = (tenant: string): string =>
  ({ shared: 'What is shared', unassigned: 'Unassigned' })[tenant] ?? tenant

/** The resources that any of some statements has, in their order. */
export function resourcesOf(all: Statement[]): { resource: string; unit: string; name: string }[] {
  const of = new Map<string, string>()
  for (const s of all) for (const t of s.totals) of.set(t.resource, t.unit)
  return [...of].map(([resource, unit]) => ({ resource, unit, name: title(resource) }))
}

/** The days of a window, the first and the last, in its own zone. */
export function daysOf(w: { from: string; to: string; zone: string }): string {
  const first = dayIn(w.from, w.zone)
  const last = dayIn(new Date(w.to).getTime() - 1, w.zone)
  return first === last ? first : `${first} to ${last}`
}
