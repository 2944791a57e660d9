import { expect, it } from 'vitest'
import { before } from './EventList'

it('shows the quarter of an hour until a moment, with its own minute', () => {
  expect(before('2026-10-11T03:10:20Z')).toEqual({ from: '2026-10-11T02:56:00.000Z', to: '2026-10-11T03:11:00.000Z' })
  expect(before('2026-10-11T03:10:00Z').to).toBe('2026-10-11T03:11:00.000Z')
})
