import { describe, expect, it } from 'vitest'
import type { Happened } from '../../api/client'
import { marksOf, toldOf } from './marks'

const event = (minute: number, name: string, urgent = false): Happened =>
  ({ at: `2026-10-11T12:0${minute}:00Z`, name, urgent, text: 'it began', kind: 'began' }) as Happened
const at = (minute: number) => Date.parse(`2026-10-11T12:0${minute}:00Z`)

describe('marks of what happened', () => {
  const events = [event(4, 'late'), event(3, 'killed', true), event(1, 'first'), event(0, 'before')]
  it('stand where they happened, from the begin on and before the end', () => {
    expect(marksOf(events, at(1), at(4), 10).map((m) => m.text)).toEqual(['first: it began', 'killed: it began'])
    expect(marksOf(undefined, at(1), at(4), 10)).toEqual([])
  })
  it('are of what is urgent alone, where there are too many', () => {
    expect(marksOf(events, at(0), at(5), 3).map((m) => m.isUrgent)).toEqual([true])
    expect(marksOf(events, at(0), at(5), 4)).toHaveLength(4)
  })
  it('are told in words by step, the urgent first, and how many are not', () => {
    const marks = marksOf(events, at(0), at(5), 10)
    expect(toldOf(marks, at(1), at(4)).map((t) => t.slice(6))).toEqual(['killed: it began', 'first: it began'])
    expect(toldOf(marks, at(0), at(5))[3]).toBe('and 1 more')
    expect(toldOf(marks, at(2), at(3))).toEqual([])
  })
})
