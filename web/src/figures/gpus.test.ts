import { describe, expect, it } from 'vitest'
import type { GPULine } from '../api/client'
import { givenText, gpuFigure, lasted, spreadText, stateText } from './gpus'

describe('GPUs in words', () => {
  it('tell how long they idled', () => {
    expect(lasted(59_999)).toBe('0 min')
    expect(lasted(3_600_000)).toBe('1 h 0 min')
    expect(lasted(48 * 3_600_000)).toBe('2 days')
    const idle = { state: 'idle', idle_since: '2026-10-11T03:00:00Z' } as const
    expect(stateText(idle, '2026-10-11T05:10:30Z')).toBe('idle for 2 h 10 min')
    expect(stateText({ state: 'unknown' }, '2026-10-11T05:10:30Z')).toBe('not told')
    expect(stateText({ state: 'lost' }, '2026-10-11T05:10:30Z')).toBe('lost')
  })
  it('tell how their use swung', () => {
    const s = { mean: 0.43, median: 0.09, above_80_percent: 0.4, below_5_percent: 0.5, over_seconds: 7200, bands: [] }
    expect(spreadText(s)).toBe(
      'Over 2 h 0 min: mean 43 %, median 9.0 %; above 80 % for 40 % of the time, below 5 % for 50 %.',
    )
    expect(spreadText({ ...s, median: 0.02 })).toContain('median below 5 %')
  })
  it('tell figures with their units, and nothing for none', () => {
    expect(gpuFigure({ section: 'memory', name: 'used', unit: 'B', value: 3 * 2 ** 30 })).toBe('3 GiB')
    expect(gpuFigure({ section: 'power', name: 'energy', unit: 'J', value: 7.2e6 })).toBe('2 kWh')
    expect(gpuFigure({ section: 'clocks', name: 'x', unit: 'Hz', value: 1.41e9 })).toBe('1,410 MHz')
    expect(gpuFigure({ section: 'errors', name: 'x', value: 0 })).toBe('0')
    expect(gpuFigure({ section: 'mode', name: 'x', text: 'shared' })).toBe('shared')
    expect(gpuFigure({ section: 'mode', name: 'x', unavailable: 'it is not supported' })).toBeNull()
  })
  it('tell by what they were given', () => {
    const holder = {
      id: 7,
      number_inside: 1,
      by: 'the scheduler',
      granted: 1,
      name: 'a',
      kind: 'job',
      owner: '',
      tenant: '',
    }
    const g = { holders: [holder] } as unknown as GPULine
    expect(givenText(g, 7)).toBe('as number 1, by the scheduler')
    expect(givenText(g, 8)).toBe('')
    const claimed = { holders: [{ ...holder, by: 'its own environment', claim: true }] } as unknown as GPULine
    expect(givenText(claimed, 7)).toBe('as number 1, by its own environment alone')
  })
})
