import { describe, expect, it } from 'vitest'
import type { CPULine } from '../../api/client'
import { layOut, timeOf } from './places'

const line = (cpu: number, core: number, node: number, more: Partial<CPULine> = {}) =>
  ({
    cpu,
    core,
    package: 0,
    numa_node: node,
    shares: [],
    user_seconds: 0,
    system_seconds: 0,
    irq_seconds: 0,
    softirq_seconds: 0,
    ...more,
  }) as unknown as CPULine

describe('the places of CPUs', () => {
  it('joins siblings to a core however they are numbered, and keeps nodes apart', () => {
    const nodes = layOut([line(3, 1, 1), line(0, 0, 0), line(2, 0, 0), line(1, 1, 1)])
    expect(nodes.map((n) => [n.node, n.cores.map((c) => c.map((x) => x.cpu))])).toEqual([
      [0, [[0, 2]]],
      [1, [[1, 3]]],
    ])
  })

  it('takes no two CPUs for siblings where their cores are not known', () => {
    expect(layOut([line(0, -1, -1), line(1, -1, -1)])[0]!.cores).toHaveLength(2)
  })

  it('adds up time by tenant; the rest is the kernel’s only where tasks are counted', () => {
    const share = (tenant: string, cpu_seconds: number) => ({ tenant, cpu_seconds }) as CPULine['shares'][number]
    const shares = [share('Label Press', 1), share('Frost Watch', 2), share('Label Press', 3)]
    const charged = [
      { tenant: 'Label Press', seconds: 4 },
      { tenant: 'Frost Watch', seconds: 2 },
    ]
    expect(timeOf(line(0, 0, 0, { softirq_seconds: 0.5, other_seconds: 0.25, untold_seconds: null, shares }))).toEqual([
      ...charged,
      { tenant: 'kernel', seconds: 0.75 },
    ])
    expect(timeOf(line(0, 0, 0, { other_seconds: null, untold_seconds: 3, shares }))).toEqual([
      ...charged,
      { tenant: 'not told apart', seconds: 3 },
    ])
    expect(timeOf(line(0, 0, 0, { shares }), 'Frost Watch')[0]!.tenant).toBe('Frost Watch')
  })
})
