import { describe, expect, it } from 'vitest'
import { brightness, changes, cpusOf, isStray, meanOf, mostly, pinsOf, type PlacedCPU, type Placement } from './placed'

const noon = Date.parse('2026-10-11T12:00:00Z')
const at = (minutes: number) => new Date(noon + minutes * 60_000).toISOString()

const cpu: PlacedCPU = {
  cpu: 2,
  busy_part: [0.5, null, 0.9],
  user_part: [0.4, null, 0.1],
  system_part: [0.1, null, 0.8],
  top: [0, 1, 1],
  top_part: [0.4, 0.2, 0.1],
}

const placement = {
  starts: [at(0), at(1), at(2)],
  seconds: [60, 30, 60],
  who: [
    { id: 7, name: 'must', tenant: 'Cellar Intake', cpu_seconds: 9 },
    { id: 8, name: 'probe', tenant: 'Agronomy Desk', cpu_seconds: 3 },
  ],
  cpus: [cpu],
  pins: [{ cpus: '1-2,5', holder: 'Cellar Intake', exclusive: true, from: at(1), until: at(2) }],
} as unknown as Placement

describe('who ran where, and when', () => {
  it('is as bright as what is asked for was busy, and unknown where it was not told', () => {
    expect([0, 2].map((k) => brightness(cpu, k, 'busy'))).toEqual([0.5, 0.9])
    expect([0, 2].map((k) => brightness(cpu, k, 'user'))).toEqual([0.4, 0.1])
    expect(brightness(cpu, 2, 'system')).toBe(0.8)
    expect(brightness(cpu, 1, 'busy')).toBe(0.2) // of who ran most: that much is known
    expect(brightness(cpu, 1, 'user')).toBeNull()
  })
  it('finds the declarations of a CPU in a list of the kernel', () => {
    expect([...cpusOf('0-2,5')]).toEqual([0, 1, 2, 5])
    expect([...cpusOf('')]).toEqual([])
    expect(pinsOf(placement, 2)).toHaveLength(1)
    expect(pinsOf(placement, 3)).toHaveLength(0)
  })
  it('marks whoever had most of what was declared for another alone, while that was in force', () => {
    const pins = pinsOf(placement, 2)
    const holders = new Set(['Cellar Intake', 'Agronomy Desk'])
    const stray = (top: number, k: number) => isStray(placement, pins, top, k, holders)
    expect([stray(1, 0), stray(1, 1), stray(1, 2)]).toEqual([false, true, false])
    expect(stray(0, 1)).toBe(false)
    expect(stray(-1, 1)).toBe(false)
    expect(isStray(placement, [{ ...pins[0]!, exclusive: false }], 1, 1, holders)).toBe(false)
    // Of a rule it is not known whom it matches.
    expect(isStray(placement, [{ ...pins[0]!, holder: "kind == 'vm'" }], 1, 1, holders)).toBe(false)
  })
  it('sums a CPU up by time', () => {
    expect(changes(cpu)).toBe(1)
    expect(mostly(cpu, placement.seconds)).toBe(0)
    expect(mostly({ ...cpu, top: [-1, -1, -1] }, placement.seconds)).toBe(-1)
    expect(meanOf(cpu.busy_part, placement.seconds)).toBeCloseTo(0.7)
    expect(meanOf([null], [60])).toBeNull()
  })
})
