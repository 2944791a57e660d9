import { render, screen } from '@testing-library/react'
import { expect, test } from 'vitest'
import { Caveats } from './Caveats'

test('says what was missed and on which hosts', () => {
  const hosts = ['press-1', 'press-2', 'press-3', 'press-4', 'press-5']
  const of = [
    { what: 'ends_lost', meaning: '12 records of ended tasks found no room', amount: 12, hosts },
    { what: 'io_hidden', meaning: 'storage counters may not be read', amount: 3, hosts: ['lab-1'] },
  ]
  const { container, rerender } = render(<Caveats of={of} />)
  expect(screen.getAllByRole('listitem').map((x) => x.textContent)).toEqual([
    '12 records of ended tasks found no room (press-1, press-2, press-3 and 2 more).',
    'Storage counters may not be read (lab-1).',
  ])
  rerender(<Caveats of={[]} />)
  expect(container.textContent).toBe('')
})
