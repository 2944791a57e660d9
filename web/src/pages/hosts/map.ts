import type { Host, Share } from '../../api/client'

/** One host on the map. */
export interface Plot {
  host: Host
  /** What it used, in the mean of the span; null where nothing was told. */
  used: number | null
  /** Of its capacity, from 0 to 1; null where either is not known. */
  part: number | null
}

export type Order = 'name' | 'part'
export type Of = 'cpu' | 'memory'

export const capacityOf = (h: Host, of: Of) => (of === 'cpu' ? h.cpus : h.memory_bytes)

/** Hosts with what they used of a resource. */
export function plotsOf(hosts: Host[], shares: Share[], of: Of): Plot[] {
  const used = new Map(shares.map((s) => [s.name, s.mean]))
  return hosts.map((host) => {
    const mean = used.get(host.name) ?? null
    const capacity = capacityOf(host, of)
    return { host, used: mean, part: mean !== null && capacity > 0 ? mean / capacity : null }
  })
}

/** Hosts by pool, each once in every pool that it is in; those in none come last. */
export function byPool(plots: Plot[], order: Order): { pool: string; plots: Plot[] }[] {
  const pools = new Map<string, Plot[]>()
  for (const p of plots)
    for (const pool of p.host.pools.length > 0 ? p.host.pools : ['']) pools.set(pool, [...(pools.get(pool) ?? []), p])
  const sorted = (list: Plot[]) =>
    [...list].sort((a, b) => {
      const names = a.host.name.localeCompare(b.host.name, 'en', { numeric: true })
      // What is not known comes last.
      return order === 'name' ? names : (b.part ?? -1) - (a.part ?? -1) || names
    })
  return [...pools]
    .map(([pool, list]) => ({ pool, plots: sorted(list) }))
    .sort((a, b) => Number(a.pool === '') - Number(b.pool === '') || a.pool.localeCompare(b.pool))
}
