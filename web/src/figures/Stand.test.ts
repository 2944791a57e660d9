import { describe, expect, it } from 'vitest'
import type { ResourceUse } from '../api/client'
import { inForce, standing } from './Stand'
import { unitOf } from './units'

const cores = unitOf('cpu', 16)
const use = (more: Partial<ResourceUse>): ResourceUse => ({
  resource: 'cpu',
  used_mean: 5,
  amount: 5,
  peak_minute_mean: 6,
  missing: 0,
  quota: 4,
  soft: null,
  over: false,
  peak_over: false,
  soft_over: false,
  ...more,
})
const term = (to: string, used: number | null, quota: number | null, over = false) => ({
  from: '2026-10-11T10:00:00Z',
  to,
  used_mean: used,
  peak_minute_mean: used,
  quota,
  soft: null,
  over,
  peak_over: over,
  soft_over: false,
})

describe('how a use stands', () => {
  it('says the worst, and by how much only where one quota was in force', () => {
    expect(standing(use({ over: true, soft_over: true, peak_over: true }), cores)?.text).toBe('1.0 over')
    expect(standing(use({ over: true, terms: [] }), cores)?.text).toBe('over for a time')
    expect(standing(use({ soft_over: true, peak_over: true }), cores)?.text).toBe('over soft mark')
    expect(standing(use({ peak_over: true }), cores)?.text).toBe('peak over')
    expect(standing(use({}), cores)).toBeUndefined()
  })
  it('tells what was in force when', () => {
    const changed = use({
      terms: [term('2026-10-11T11:00:00Z', 5, 4, true), term('2026-10-11T12:00:00Z', null, null)],
      coming: { from: '2026-10-11T13:00:00Z', quota: null, soft: 3 },
    })
    const lines = inForce(changed, cores)
    expect(lines).toHaveLength(3)
    expect(lines[0]).toMatch(/^Until .*: quota 4, 5.0 cores used, over\.$/)
    expect(lines[1]).toMatch(/: no quota, use not available\.$/)
    expect(lines[2]).toMatch(/^From .* on: soft mark 3\.$/)
  })
})
