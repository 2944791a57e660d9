import { describe, expect, it } from 'vitest'
import { shown } from './Name'
import { amountText, meanText } from './units'

describe('a name that anyone may choose', () => {
  it('shows what is not seen, or turns the writing round, as its code', () => {
    expect(shown('must\u001b[31m')).toBe('must\\u001b[31m')
    expect(shown('evil\u202egnp.exe\u200b\u0000')).toBe('evil\\u202egnp.exe\\u200b\\u0000')
    expect(shown('Käse 葡萄 <b>')).toBe('Käse 葡萄 <b>')
  })
  it('cuts one that is endless', () => {
    expect([...shown('é'.repeat(10_000))].length).toBe(121)
  })
})

describe('figures with the unit that suits them', () => {
  it('have three digits, and a unit that says of what', () => {
    expect(meanText('cpu', 2.734)).toBe('2.73 cores')
    expect(meanText('memory', 3.5 * 2 ** 30)).toBe('3.5 GiB')
    expect(meanText('disk', 367.5e6)).toBe('368 MB/s')
    expect(meanText('network', 0)).toBe('0 B/s')
    expect(amountText('cpu', 9687.83)).toBe('9,687.8 CPU s')
    expect(amountText('disk', 1.302e12)).toBe('1.3 TB')
  })
})
