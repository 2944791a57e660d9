import { describe, expect, it } from 'vitest'
import type { Series } from '../../api/client'
import { layersOf } from './HowItWent'
import { gapsOf, highestOf, scaleOf, sumOf, topsOf, type Layer } from './layers'

const cores = { name: 'cores', per: 1, digits: 1 }
const layer = (name: string, ...mean: (number | null)[]): Layer => ({ key: name, name, colour: 'var(--t1)', mean })
const when = (k: number) => `at step ${k}`

describe('the layers of a chart', () => {
  it('stand on each other, and on nothing where nothing is known', () => {
    expect(topsOf([layer('a', 1, null, null, 2), layer('b', 2, 3, null, 0)])).toEqual([
      [1, 0, null, 2],
      [3, 3, null, 2],
    ])
    expect(topsOf([])).toEqual([])
    expect(
      highestOf([
        [1, null],
        [0, 4],
      ]),
    ).toEqual({ value: 4, at: 1 })
    expect(highestOf([[null]])).toBeUndefined()
  })

  it('end with the nearest bound above, which is named', () => {
    const bounds = [
      { name: 'the host’s capacity', value: 24 },
      { name: 'its quota', value: 10 },
    ]
    expect(scaleOf([[3, 9, null]], bounds, cores, when)).toEqual({
      end: 10,
      words: 'The scale is from 0 to 10 cores: its quota.',
    })
    expect(scaleOf([[3, 12, 14]], bounds, cores, when)).toEqual({
      end: 24,
      words: 'The scale is from 0 to 24 cores: the host’s capacity. Its quota, 10 cores, was exceeded first at step 1.',
    })
  })

  it('end with a round figure, and say so, where no bound is near or all are exceeded', () => {
    const small = scaleOf([[0.3]], [{ name: 'its quota', value: 10 }], cores, when)
    expect(small.end).toBeCloseTo(0.4)
    expect(small.words).toBe(
      'The scale is from 0 to 0.40 cores, a round figure above the highest: its quota is 10 cores.',
    )
    const over = scaleOf([[11]], [{ name: 'its quota', value: 10 }], cores, when)
    expect(over.end).toBe(12)
    expect(over.words).toContain('Its quota, 10 cores, was exceeded first at step 0.')
    expect(scaleOf([[]], [], cores, when).end).toBe(1)
  })

  it('leave gaps where nothing was told', () => {
    expect(gapsOf([60, 0, 0, 60, 0])).toEqual([
      [1, 3],
      [4, 5],
    ])
  })

  it('are the groups, the rest, the kernel and what nobody was charged with', () => {
    const group = (name: string) => ({ id: 1, name, host: 'press-1', mean: [1, null], peak: [2, null] })
    const series = {
      by: 'workload',
      host: 'all hosts',
      peak_of: 'tick',
      groups: [group('must'), group('vat')],
      rest: { mean: [0.5, null] },
      groups_in_rest: 1,
      kernel: [0.1, null],
      residual: [-0.2, null],
    } as unknown as Series
    const all = layersOf(series, false, new Map())
    expect(all.map((l) => l.name)).toEqual([
      'must on press-1',
      'vat on press-1',
      'one other',
      'kernel',
      'charged to nobody',
    ])
    expect(all[4]!.mean).toEqual([-0.2, null])
    expect(topsOf(all)[4]![0]).toBeCloseTo(2.6)
    expect(sumOf(all)[0]).toBeCloseTo(2.4)
    expect(sumOf(all)[1]).toBeNull()
    expect(all[0]!.peak).toBeUndefined()
    expect(layersOf(series, true, new Map()).map((l) => l.peak)).toEqual([
      [2, null],
      [2, null],
    ])
  })
})
