import { describe, expect, it } from 'vitest'
import { minutesOf, queryOf, readTime, rulerWindow, spanOf, spanWords } from './span'

const now = new Date('2026-10-11T14:20:00')

describe('the span in the address', () => {
  it('is the last hour when the address says nothing, or nonsense', () => {
    for (const search of [
      {},
      { span: 'soon' },
      { span: '0h' },
      { span: '9999d' },
      { from: 'x', to: 'y' },
      { from: '2026-10-11T14:00:00Z' },
    ]) {
      expect(spanOf(readTime(search))).toEqual({ live: true, span: '1h', minutes: 60 })
    }
  })
  it('stands still when it has a begin and an end, in that order', () => {
    const from = '2026-10-11T03:00:00Z'
    const to = '2026-10-11T04:00:00Z'
    expect(queryOf(spanOf(readTime({ from, to })))).toEqual({
      from: new Date(from).toISOString(),
      to: new Date(to).toISOString(),
    })
    expect(readTime({ from: to, to: from })).toEqual({})
  })
  it('reads lengths', () => {
    expect([minutesOf('90m'), minutesOf('24h'), minutesOf('7d'), minutesOf('1w'), minutesOf('-1h')]).toEqual([
      90,
      1440,
      10080,
      null,
      null,
    ])
  })
  it('is told in words', () => {
    expect(spanWords({ live: true, span: '24h', minutes: 1440 }, now)).toBe('Last 24 hours')
    expect(spanWords({ live: false, from: new Date('2026-10-11T13:20:00'), to: now }, now)).toBe('13:20 – 14:20 today')
  })
})

describe('the ruler', () => {
  it('shows the last day, and as much more as the span needs', () => {
    const hours = (s: Parameters<typeof rulerWindow>[0]) => {
      const w = rulerWindow(s, now)
      return (w.to.getTime() - w.from.getTime()) / 3_600_000
    }
    const still = (daysAgo: number) => {
      const to = new Date(now.getTime() - daysAgo * 86_400_000)
      return { live: false as const, from: new Date(to.getTime() - 3_600_000), to }
    }
    expect(hours({ live: true, span: '1h', minutes: 60 })).toBe(24)
    expect(hours({ live: true, span: '7d', minutes: 10080 })).toBe(168)
    expect(hours(still(0.5))).toBe(24)
    expect(hours(still(3))).toBe(168)
    const far = rulerWindow(still(90), now)
    expect(far.from < still(90).from && still(90).to < far.to).toBe(true)
  })
})
