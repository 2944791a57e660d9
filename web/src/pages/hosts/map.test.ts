import { describe, expect, it } from 'vitest'
import type { Host, Share } from '../../api/client'
import { byPool, plotsOf } from './map'

const host = (name: string, cpus: number, ...pools: string[]) =>
  ({ name, cpus, memory_bytes: 2 ** 30, pools, state: 'reporting' }) as unknown as Host
const share = (name: string, mean: number | null) => ({ name, mean }) as unknown as Share

describe('the map of hosts', () => {
  const hosts = [host('press-10', 4, 'presses'), host('press-2', 8, 'presses', 'north'), host('cellar-1', 0)]
  const plots = plotsOf(hosts, [share('press-10', 1), share('press-2', 6), share('cellar-1', 2)], 'cpu')
  it('holds what each used against what it has', () => {
    expect(plots.map((p) => p.part)).toEqual([0.25, 0.75, null]) // a host that told nothing yet has no CPUs
    expect(plotsOf(hosts, [], 'cpu').map((p) => p.used)).toEqual([null, null, null])
    expect(plotsOf(hosts, [share('press-2', 2 ** 29)], 'memory')[1]!.part).toBe(0.5)
  })
  it('is by pools, in each by name as people count, or the busiest first', () => {
    const names = (order: 'name' | 'part') =>
      byPool(plots, order).map((g) => [g.pool, ...g.plots.map((p) => p.host.name)])
    expect(names('name')).toEqual([
      ['north', 'press-2'],
      ['presses', 'press-2', 'press-10'],
      ['', 'cellar-1'],
    ])
    const turned = plotsOf(hosts, [share('press-10', 3.9), share('press-2', 6)], 'cpu')
    expect(byPool(turned, 'part')[1]!.plots.map((p) => p.host.name)).toEqual(['press-10', 'press-2'])
  })
})
