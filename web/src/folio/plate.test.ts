import { expect, it } from 'vitest'
import type { Matter } from '../api/client'
import { drawn, found, meanOver, questionOf, subjectOn, subjectText, titleOf } from './plate'

const matter = (name: string, title: string, meaning: string): Matter => ({
  name,
  title,
  meaning,
  unit: 'cores',
  subjects: ['fleet', 'host'],
  groupings: ['tenant'],
  forms: [
    { grouped: false, subject: 'host', forms: ['line', 'number'] },
    { grouped: true, subject: 'host', forms: ['stack', 'bars'] },
  ],
})
const all = [
  matter('memory', 'Memory', 'What is charged.'),
  matter('cpu', 'CPU', 'CPU time of workloads.'),
  matter('cpu_wait_us', 'CPU wait', 'Time that threads waited.'),
  matter('disk_time_us', 'Disk time', 'Time that devices took; threads waited for it.'),
]

it('finds what has all words, what is called so first', () => {
  const names = (words: string) => found(all, words).map((m) => m.name)
  expect(names('cpu')).toEqual(['cpu', 'cpu_wait_us'])
  expect(names('threads waited')).toEqual(['cpu_wait_us', 'disk_time_us'])
  expect(names('TIME')).toEqual(['disk_time_us', 'cpu', 'cpu_wait_us'])
  expect(names('grapes')).toEqual([])
  expect(names('  ')).toHaveLength(4)
})

it('asks for whose it is', () => {
  const p = { of: 'cpu', subject: { kind: 'host' as const } }
  expect(questionOf({ ...p, by: 'tenant' }, { kind: 'host', name: 'press-1' })).toEqual({
    of: 'cpu',
    by: 'tenant',
    first: 6,
    host: 'press-1',
  })
  expect(questionOf({ ...p, step: '1h' }, { kind: 'user', name: 'o"x' })).toEqual({
    of: 'cpu',
    where: 'owner == "o\\"x"',
    step: '1h',
  })
  expect(questionOf({ ...p, of: 'drive_queue' }, { kind: 'fleet' }, true)).toEqual({ of: 'drive_queue', first: 6 })
  expect(questionOf(p, { kind: 'workload', name: '17' })).toEqual({ of: 'cpu', workload: 17 })
  expect(questionOf(p, { kind: 'pool', name: 'presses' })).toEqual({ of: 'cpu', pool: 'presses' })
  expect(questionOf({ ...p, by: 'user', first: 2 }, { kind: 'where', name: "kind == 'job'" })).toEqual({
    of: 'cpu',
    by: 'user',
    first: 2,
    where: "kind == 'job'",
  })
})

it('leaves to the page whose it is where it names nobody', () => {
  expect(subjectOn({ kind: 'host' }, {})).toBeUndefined()
  expect(subjectOn({ kind: 'host' }, { host: 'press-1', tenant: 'Frost Watch' })).toEqual({
    kind: 'host',
    name: 'press-1',
  })
  expect(subjectOn({ kind: 'host', name: 'cellar-1' }, { host: 'press-1' })?.name).toBe('cellar-1')
  expect(subjectOn({ kind: 'fleet' }, { host: 'press-1' })).toEqual({ kind: 'fleet' })
  expect(subjectText(subjectOn({ kind: 'fleet' }, {}))).toBe('all hosts')
  expect(subjectText({ kind: 'pool', name: 'presses' })).toBe('pool presses')
})

it('is called by what it shows, and drawn as proposed', () => {
  const p = { of: 'cpu', subject: { kind: 'host' as const }, by: 'label:vintage' }
  expect(titleOf(p, all[1])).toBe('CPU by label vintage')
  expect(titleOf({ ...p, title: 'Mine' }, all[1])).toBe('Mine')
  expect(titleOf({ ...p, by: undefined }, undefined)).toBe('cpu')
  expect(drawn(p, all[1])).toBe('stack')
  expect(drawn({ ...p, by: '' }, all[1])).toBe('line')
  expect(drawn({ ...p, form: 'bars' }, all[1])).toBe('bars')
  expect(drawn(p, undefined)).toBe('')
})

it('means over the time that was told of', () => {
  expect(meanOver([1, null, 4], [60, 60, 20])).toBe(1.75)
  expect(meanOver([null], [60])).toBeNull()
  expect(meanOver(undefined, [])).toBeNull()
})
