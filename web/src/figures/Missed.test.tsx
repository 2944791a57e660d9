import { cleanup, render, screen, within } from '@testing-library/react'
import { Tooltip } from 'radix-ui'
import { afterEach, expect, it } from 'vitest'
import { Chosen } from '../time/useTime'
import { spanOf, type TimeSearch } from '../time/span'
import { Missed } from './Missed'

afterEach(cleanup)

const lacking = {
  uncovered: {
    hosts: 1,
    seconds: 90,
    parts: [{ host: 'cellar-1', from: '2026-10-11T12:00:00', to: '2026-10-11T12:01:30', seconds: 90 }],
    of_live_frames: true,
  },
  caveats: [{ what: 'ends_lost', meaning: 'records found no room', amount: 12, hosts: ['press-1'] }],
}

const page = (search: TimeSearch, by: { caveats?: (typeof lacking)['caveats'] } = {}, isInSheet = false) => (
  <Tooltip.Provider>
    <Chosen value={{ span: spanOf(search), search, choose: () => undefined }}>
      <Missed by={by} isInSheet={isInSheet} />
    </Chosen>
  </Tooltip.Provider>
)

it('keeps one line of a page that follows for what is missing, and takes room elsewhere where something is', () => {
  const { rerender, container } = render(page({ live: '1s' }))
  const line = screen.getByRole('status')
  expect(line.textContent).toBe('No host was silent, and nothing was missed.')
  const height = line.className
  rerender(page({ live: '1s' }, lacking))
  expect(screen.getByRole('status')).toBe(line)
  expect(line.className).toBe(height)
  expect(within(line).getByRole('button').textContent).toBe(
    'No live frames came of cellar-1 from 11/10/2026 12:00:00 until 11/10/2026 12:01:30. ' +
      'Records found no room (press-1).',
  )
  rerender(page({ live: '1s' }, {}, true))
  expect(screen.getByRole('status').className).toBe(height)
  expect(screen.getByRole('status').textContent).toBe('')
  for (const search of [{}, { span: '1h' }, { from: '2026-10-11T12:00:00Z', to: '2026-10-11T13:00:00Z' }]) {
    rerender(page(search))
    expect(container.textContent).toBe('')
    expect(screen.queryByRole('status')).toBeNull()
    rerender(page(search, lacking))
    expect(screen.getByRole('status').tagName).toBe('P')
    expect(screen.getByRole('listitem').textContent).toBe('Records found no room (press-1).')
  }
})
