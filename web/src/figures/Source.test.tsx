import { cleanup, render, screen } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { Tooltip } from 'radix-ui'
import { afterEach, describe, expect, it } from 'vitest'
import type { Ability } from '../api/client'
import { Source } from './Source'

afterEach(cleanup)

const means: Ability[] = [
  {
    what: 'cPU time of a cgroup',
    whose: 'cgroups',
    of: 'cpu',
    source: 'counted',
    how: 'its counter',
    resolution: '1 µs',
  },
  { what: 'disk by processes', whose: 'others', of: 'cpu', source: 'summed', how: 'files', misses: 'what ended' },
]

async function explained(element: React.ReactElement): Promise<string> {
  render(<Tooltip.Provider delayDuration={0}>{element}</Tooltip.Provider>)
  await userEvent.hover(screen.getByRole('button'))
  return (await screen.findByRole('tooltip')).textContent ?? ''
}

describe('the word for how a figure was got', () => {
  it('says how finely it is told, what it can miss and what was missed', async () => {
    const caveats = [{ what: 'ends_lost', meaning: '3 records were lost', amount: 3, hosts: ['press-1'] }]
    const text = await explained(<Source source="summed" kind="loose" means={means} caveats={caveats} />)
    expect(text).toContain('Disk by processes: files. Can miss what ended.')
    expect(text).toContain('In this span 3 records were lost.')
    expect(text).not.toContain('its counter')
  })
  it('tells of the way that is taken for this kind of workload alone', async () => {
    expect(await explained(<Source source="counted" kind="container" means={means} />)).toContain('Told to 1 µs.')
    cleanup()
    expect(await explained(<Source source="counted" kind="loose" means={means} />)).not.toContain('Told to')
  })
  it('says why there is no figure', async () => {
    expect(await explained(<Source source="unavailable" reason="it is off" means={means} />)).toBe(
      'Not available: it is off.',
    )
  })
})
