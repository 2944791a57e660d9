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
  const { rerender, container } = render(<NotRecorded of={{ hosts: 2, seconds: 1890, parts, of_live_frames: false }} />)
  expect(screen.getByRole('status').textContent).toBe(
    'Nothing was recorded of press-1 from 11/10/2026 12:00:00 until 11/10/2026 12:30:00, ' +
      'of cellar-1 from 11/10/2026 12:00:00 until 11/10/2026 13:00:00 for 90 s.',
  )
  const same = ['cellar-1', 'orchard-1', 'press-1', 'terrace-1', 'terrace-2'].map((h, i) => ({
    ...parts[0]!,
    host: h,
    to: `2026-10-11T12:30:00.${100 + i}`,
  }))
  rerender(<NotRecorded of={{ hosts: 5, seconds: 9000, parts: same, of_live_frames: false }} />)
  expect(screen.getByRole('status').textContent).toMatch(
    /^Nothing was recorded of cellar-1, orchard-1, press-1 and 2 more from 11\/10\/2026 12:00:00 until [^,]+\.$/,
  )
  const later = [10, 11, 12].map((n) => part('press-1', `2026-10-11T${n}:00:00`, `2026-10-11T${n}:01:00`, 60))
  rerender(<NotRecorded of={{ hosts: 2, seconds: 7200, parts: [...parts, ...later], of_live_frames: false }} />)
  expect(screen.getByRole('status').textContent).toMatch(/, and more of 2 hosts: 120 min in all\.$/)
  rerender(<NotRecorded of={{ hosts: 1, seconds: 90, parts: parts.slice(1), of_live_frames: true }} />)
  expect(screen.getByRole('status').textContent).toMatch(/^No live frames came of cellar-1 from /)
  rerender(<NotRecorded />)
  expect(container.textContent).toBe('')
})
