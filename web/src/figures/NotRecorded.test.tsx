import { cleanup, render, screen } from '@testing-library/react'
import { afterEach, expect, it } from 'vitest'
import { NotRecorded } from './NotRecorded'

afterEach(cleanup)

const part = (host: string, from: string, to: string, seconds: number) => ({ host, from, to, seconds })

it('names the longest parts of which nothing is known, and counts the rest', () => {
  const parts = [
    part('press-1', '2026-10-11T12:00:00', '2026-10-11T12:30:00', 1800),
    part('cellar-1', '2026-10-11T12:00:00', '2026-10-11T13:00:00', 90),
  ]
  const { rerender, container } = render(<NotRecorded of={{ hosts: 2, seconds: 1890, parts }} />)
  expect(screen.getByRole('status').textContent).toBe(
    'Not recorded is what was used of press-1 from 11/10/2026 12:00:00 until 11/10/2026 12:30:00, ' +
      'of cellar-1 from 11/10/2026 12:00:00 until 11/10/2026 13:00:00 (90 s of it).',
  )
  rerender(<NotRecorded of={{ hosts: 2, seconds: 7200, parts: [...parts, ...parts] }} />)
  expect(screen.getByRole('status').textContent).toMatch(/, and more of 2 hosts: 120 min in all\.$/)
  rerender(<NotRecorded />)
  expect(container.textContent).toBe('')
})
