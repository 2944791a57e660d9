import { expect, test } from 'vitest'
import type { StatementLine } from '../../api/client'
import { daysOf, decimal, grouped, lineWords, money, splitWords, unitWords } from './words'

test('amounts are rounded for people, and small ones not to nothing', () => {
  expect(decimal('1234567.891')).toBe('1,234,567.89')
  expect(decimal('-0.0034')).toBe('-0.0034')
  expect(decimal('0')).toBe('0.00')
  expect(decimal('-0.00000012')).toBe('≈ 0')
  expect(money('12.345', 'EUR')).toBe('12.35 EUR')
  expect(unitWords('core_hours')).toBe('core-hours')
  expect(unitWords('wine_litres')).toBe('wine litres')
})

test('lines are added up by what they have alike', () => {
  const line = (resource: string, owner: string, quantity: string, cost: string) =>
    ({ resource, owner, quantity, cost, unit: 'x', what: 'used' }) as StatementLine
  const lines = [
    line('cpu', 'a', '1', '0.5'),
    line('cpu', 'b', '4', '2'),
    line('cpu', 'a', '2', '1'),
    line('disk', 'a', '9', '0'),
  ]
  expect(grouped(lines, 'owner').map((g) => [g.resource, g.value, g.quantity, g.cost])).toEqual([
    ['cpu', 'b', 4, 2],
    ['cpu', 'a', 3, 1.5],
    ['disk', 'a', 9, 0],
  ])
})

test('it is said what is split and what is not', () => {
  expect(splitWords('none', true)).toMatch(/is not split: it is in the statement of what is shared/)
  expect(splitWords('equal', true)).toBe(
    'What the kernel had is split equally over all that used anything; what stood idle is not split.',
  )
  expect(splitWords('use', false)).toBe(
    'What the kernel had and what stood idle on a host is split as each used the host.',
  )
})

test('a line says what it is of', () => {
  const line = (what: string, corrects: number) => lineWords({ what, corrects } as StatementLine)
  expect(line('idle', 0)).toBe('stood idle')
  expect(line('used', 4)).toBe('used, corrected')
  expect(line('manual', 4)).toBe('corrected by hand')
})

test('a window is told by its first and its last day, in its own zone', () => {
  const w = { from: '2026-09-30T22:00:00Z', to: '2026-10-31T23:00:00Z', zone: 'Europe/Vienna' }
  expect(daysOf(w)).toBe('1 October 2026 to 31 October 2026')
  expect(daysOf({ ...w, to: '2026-10-01T22:00:00Z' })).toBe('1 October 2026')
})
