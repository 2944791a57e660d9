import { describe, expect, it } from 'vitest'
import {
  boundsOf,
  framesOf,
  minutesOf,
  queryOf,
  readTime,
  readTyped,
  rulerWindow,
  spanOf,
  spanWords,
  typed,
} from './span'

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

describe('live frames in the address', () => {
  it('are followed at one of the paces; any other is the last hour', () => {
    const now = spanOf(readTime({ live: '5s', span: '7d' }))
    expect([framesOf(now), framesOf(now, '15m'), queryOf(now)]).toEqual([
      { live: '5s', span: undefined },
      { live: '5s', span: '15m' },
      { span: '1h' },
    ])
    expect(spanWords(now, new Date())).toBe('Now')
    for (const live of ['0s', '3s', '5', 'x', '61s']) expect(readTime({ live })).toEqual({})
    const still = spanOf(readTime({ live: '5s', from: '2026-10-11T03:00:00Z', to: '2026-10-11T04:00:00Z' }))
    expect(framesOf(still)).toEqual(queryOf(still))
  })
})

describe('a moment that is typed', () => {
  it('is read as it is shown, on a clock of 24 hours', () => {
    expect(typed(now)).toBe('2026-10-11 14:20')
    for (const [text, want] of Object.entries({
      '2026-10-11 14:20': now,
      '2026-10-11T14:20': now,
      ' 14:20 ': now,
      '2026-3-1': new Date(2026, 2, 1),
      '0:05': new Date(2026, 9, 11, 0, 5),
    }))
      expect(readTyped(text, now)).toEqual(want)
    for (const text of ['', 'noon', '24:00', '14:60', '2026-02-30', '2026-13-01 10:00', '11.10.2026', '2 pm'])
      expect(readTyped(text, now)).toBeNull()
  })
  it('begins with what is shown', () => {
    expect(boundsOf(spanOf({ span: '24h' }), now)).toEqual({ from: new Date('2026-10-10T14:20:00'), to: now })
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
