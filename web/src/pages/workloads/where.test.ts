import { describe, expect, it } from 'vitest'
import { moved } from '../../figures/listing'
import { whereOf, withinGroup } from './where'

describe('what of workloads is asked for', () => {
  it('is words, each somewhere, or an expression', () => {
    expect(whereOf('', '  ')).toBeUndefined()
    expect(whereOf('session', '')).toBe('kind == "session"')
    expect(whereOf('job', 'frost abt')).toBe(
      'kind == "job" && (name.contains("frost") || owner.contains("frost") || path.contains("frost")) && ' +
        '(name.contains("abt") || owner.contains("abt") || path.contains("abt"))',
    )
    expect(whereOf('job', 'account == "frost" || uid > 5')).toBe('kind == "job" && (account == "frost" || uid > 5)')
    expect(whereOf('', 'a"b')).toContain('contains("a\\"b")')
  })
  it('is narrowed to one group', () => {
    expect(withinGroup('tenant', 'Frost Watch', 'kind == "job"')).toEqual({
      where: 'kind == "job"',
      tenant: 'Frost Watch',
    })
    expect(withinGroup('host', 'cellar-1', undefined)).toEqual({ where: undefined, host: 'cellar-1' })
    expect(withinGroup('user', 'm.abt', undefined)).toEqual({ where: 'owner == "m.abt"' })
    expect(withinGroup('pod', '(none)', 'uid > 5')).toEqual({ where: 'pod == "" && uid > 5' })
  })
})

describe('columns', () => {
  it('are moved by one place, and not beyond the ends', () => {
    expect(moved(['a', 'b', 'c'], 'b', 1)).toEqual(['a', 'c', 'b'])
    expect(moved(['a', 'b', 'c'], 'b', -1)).toEqual(['b', 'a', 'c'])
    expect(moved(['a', 'b'], 'a', -1)).toEqual(['a', 'b'])
    expect(moved(['a', 'b'], 'x', 1)).toEqual(['a', 'b'])
  })
})
