import { describe, expect, it } from 'vitest'
import { milliseconds, percent, rate, size } from './text'

describe('the figures of devices', () => {
  it('never shows a small part as nothing', () => {
    expect(percent(0.0004)).toBe('< 0.1 %')
    expect(percent(0)).toBe('0.0 %')
    expect(percent(0.856)).toBe('86 %')
  })
  it('names units that suit', () => {
    expect(rate(0)).toBe('0 B/s')
    expect(rate(544_240_000)).toBe('544 MB/s')
    expect(size(8e12)).toBe('8 TB')
  })
  it('shows what is not known as such', () => {
    expect(milliseconds(null)).toBe('–')
    expect(milliseconds(0.25)).toBe('0.25 ms')
  })
})
