import { describe, expect, it } from 'vitest'
import type { Timeline } from '../api/client'
import { runsOf } from './RulerChart'

const minute = 60_000
const at = (n: number) => new Date(n * minute).toISOString()
const timeline = (minutes: number[], busy: number | null = 0.5): Timeline => ({
  from: at(0),
  to: at(60),
  resource: 'cpu',
  stretch_seconds: 60,
  points: minutes.map((n) => ({ start: at(n), busy_share: busy, hosts: 1 })),
})

describe('runsOf', () => {
  it('draws what was not recorded as unknown, not as zero', () => {
    const minutes = [...Array(60).keys()].filter((n) => n < 20 || n >= 30)
    const { known, unknown } = runsOf(timeline(minutes), { from: 0, to: 60 * minute })
    expect(known.map((r) => r.length)).toEqual([40, 60])
    expect(unknown).toEqual([{ from: 20 * minute, to: 30 * minute }])
  })
  it('takes the newest minutes, which are still being closed, for no gap', () => {
    const { unknown } = runsOf(timeline([...Array(58).keys()]), { from: 0, to: 60 * minute })
    expect(unknown).toEqual([])
  })
  it('is unknown throughout when nothing was recorded, or no capacity is known', () => {
    for (const t of [timeline([]), timeline([1, 2, 3], null)]) {
      expect(runsOf(t, { from: 0, to: 60 * minute })).toEqual({ known: [], unknown: [{ from: 0, to: 60 * minute }] })
    }
  })
})
