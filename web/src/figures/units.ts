import type { ResourceName } from '../api/queries'

/** How a resource's means are shown in one column: a unit, what one of it holds, and decimals. */
export type Unit = { name: string; per: number; digits: number }

const gib = 2 ** 30

/** The unit that suits a resource of this capacity (its mean; null where it is not known). */
export function unitOf(resource: ResourceName, capacity: number | null): Unit {
  switch (resource) {
    case 'cpu':
      return { name: 'cores', per: 1, digits: 1 }
    case 'memory':
      return capacity !== null && capacity < 4 * gib
        ? { name: 'MiB', per: 2 ** 20, digits: 0 }
        : { name: 'GiB', per: gib, digits: 1 }
    case 'disk':
      return { name: 'MB/s', per: 1e6, digits: 1 }
    case 'network':
      return { name: 'Gbit/s', per: 1e9 / 8, digits: 2 }
  }
}

export const resourceTitle: Record<ResourceName, string> = {
  cpu: 'CPU',
  memory: 'Memory',
  disk: 'Disk',
  network: 'Network',
}

/** What a resource's figures mean, for those who ask. */
export const resourceMeaning: Record<ResourceName, string> = {
  cpu: 'CPU time over the span, as a mean number of busy logical CPUs. Counted by the kernel for each cgroup; summed over processes where a workload has none.',
  memory:
    'Memory charged to workloads, as the time-weighted mean over the span. Processes without a cgroup of their own count with their anonymous memory.',
  disk: 'Bytes read from and written to disks per second, as the mean over the span. The capacity is what the administrator declared: the kernel does not say what a disk can carry.',
  network:
    'Bytes received and sent per second, both directions together, seen from the host. Workloads are counted by the cgroup of their sockets, by a network namespace of their own, or by a machine’s tap; where a host counts none of these, what shares its network is not available.',
}

/** A figure in a unit. Never an empty text: a figure that is not there is the caller's to show as such. */
export function figure(value: number, unit: Unit): string {
  const text = (value / unit.per).toLocaleString('en', {
    minimumFractionDigits: unit.digits,
    maximumFractionDigits: unit.digits,
  })
  return /^-[0.,]*$/.test(text) ? text.slice(1) : text
}

/** A round figure, as quotas and capacities are. */
export function whole(value: number, unit: Unit): string {
  return (value / unit.per).toLocaleString('en', { maximumFractionDigits: unit.digits })
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

/** The colour of a tenant, stable for it; unassigned use is grey. */
export function tenantColour(colour: number): string {
  return colour >= 1 && colour <= 8 ? `var(--t${colour})` : 'var(--kernel)'
}

/** A mean of a resource with the unit that suits it, such as "2.73 cores" or "368 MB/s". */
export function meanText(resource: ResourceName, v: number): string {
  if (resource === 'cpu') return `${v.toFixed(2)} cores`
  if (resource === 'memory')
    return scaled(v, [
      ['B', 1],
      ['KiB', 2 ** 10],
      ['MiB', 2 ** 20],
      ['GiB', gib],
      ['TiB', 2 ** 40],
    ])
  return scaled(v, [
    ['B/s', 1],
    ['kB/s', 1e3],
    ['MB/s', 1e6],
    ['GB/s', 1e9],
  ])
}

/** An amount over a span with the unit that suits it. */
export function amountText(resource: ResourceName, v: number): string {
  if (resource === 'cpu')
    return `${v.toLocaleString('en', { maximumFractionDigits: 1, minimumFractionDigits: 1 })} CPU s`
  if (resource === 'memory') return meanText(resource, v)
  return scaled(v, [
    ['B', 1],
    ['kB', 1e3],
    ['MB', 1e6],
    ['GB', 1e9],
    ['TB', 1e12],
  ])
}

function scaled(v: number, units: [string, number][]): string {
  const [name, per] = units.findLast(([, per]) => v >= per) ?? units[0]!
  return `${(v / per).toLocaleString('en', { maximumSignificantDigits: 3 })} ${name}`
}
