import { expect, test } from 'vitest'
import { planQuery, readPlan } from './search'

test('an address holds what a plan is made for, and nothing else', () => {
  const p = readPlan({ holder: 'Label Press', kind: 'tenant', cpus: '4', host: '', keep: -1, shared: 'true', odd: 1 })
  expect(p).toEqual({ holder: 'Label Press', cpus: 4, shared: true })
  expect(planQuery(p)).toEqual({ holder: 'Label Press', holder_kind: 'tenant', cpus: 4, shared: true, keep: 1 })
  expect(planQuery(readPlan({ holder: 'Label Press' }))).toBeNull()
  expect(planQuery(readPlan({ cpus: 3 }))).toBeNull()
  expect(readPlan({ view: 'limit', workload: '7', of: 'cpu', limit: 0.5 })).toEqual({
    view: 'limit',
    workload: 7,
    of: 'cpu',
    limit: '0.5',
  })
  expect(readPlan({ view: 'hosts', percentile: 99, spare: '0' })).toEqual({ view: 'hosts', percentile: 99, spare: 0 })
  expect(readPlan({ view: 'place', cores: '2.5', gib: 8, gpus: 1, without: 'a,b', add: 65.5 })).toEqual({
    view: 'place',
    cores: 2.5,
    gib: 8,
    gpus: 1,
    without: 'a,b',
  })
  expect(readPlan({ percentile: 49, spare: 'much' })).toEqual({})
  expect(readPlan({ view: 'cpus', workload: -1, limit: '' })).toEqual({})
  expect(readPlan({ cpus: 2.5, holder: 41200, kind: 'workload' })).toEqual({ holder: '41200', kind: 'workload' })
  expect(readPlan({ view: 'pins', list: 3, host: 'press-1', holder: 'Label Press' })).toEqual({
    view: 'pins',
    list: '3',
    host: 'press-1',
    holder: 'Label Press',
  })
  expect(planQuery({ holder: 'x', cpus: 1, host: 'cellar-1', pool: 'terraces' })?.pool).toBeUndefined()
})
