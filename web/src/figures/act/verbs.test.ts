import { expect, test } from 'vitest'
import type { Act } from '../../api/client'
import { confirmWords, offersOf, requestOf, unitOf, verbsFor } from './verbs'

test('a request names its target and leaves out what was left empty', () => {
  expect(
    requestOf(
      { form: 'workload', id: 7, name: 'grid', kind: 'job', host: 'press-1' },
      'cap',
      { cpu: ' 2 ', memory: '' },
      '',
    ),
  ).toEqual({ verb: 'cap', settings: { cpu: '2' }, reason: '', workload: 7, target: { form: 'workload' } })
  expect(
    requestOf({ form: 'family', pid: 12, name: 'sh', host: 'press-1' }, 'end', { force: 'true' }, ' late '),
  ).toEqual({
    verb: 'end',
    settings: { force: 'true' },
    reason: 'late',
    host: 'press-1',
    target: { form: 'family', pid: 12 },
  })
  expect(requestOf({ form: 'act', act: 'a1', name: 'x', host: 'press-1' }, 'undo', {}, '')).toEqual({
    verb: 'undo',
    settings: {},
    reason: '',
    target: { form: 'act', act: 'a1' },
  })
})

test('only a sign-in has a terminal, and what ends comes last', () => {
  const of = (kind: string) => verbsFor({ form: 'workload', id: 1, name: 'x', kind, host: 'h' })
  expect(of('session')).toContain('message')
  expect(of('container')).not.toContain('message')
  expect(of('container').at(-1)).toBe('end')
})

test('beside a service stands its unit, and what it wrote is read once', () => {
  const of = (kind: string, facts: Record<string, string>) => unitOf({ kind, facts, host: 'press-1' })
  const unit = of('service', { unit: 'journal.service' })
  expect(unit).toEqual({ form: 'unit', unit: 'journal.service', name: 'unit journal.service', host: 'press-1' })
  expect(of('container', { unit: 'journal.service' })).toBeUndefined()
  expect(of('service', {})).toBeUndefined()
  const service = { form: 'workload', id: 1, name: 'journal', kind: 'service', host: 'press-1' } as const
  expect(offersOf(service, unit).flatMap((o) => o.verbs.filter((v) => v === 'read'))).toEqual(['read'])
  expect(offersOf(service, unit)[1]?.verbs).toContain('restart')
  expect(offersOf(service)).toEqual([{ aim: service, verbs: verbsFor(service) }])
})

test('the button that carries an act out says what it hits', () => {
  const act = (verb: string, pids: number[]) =>
    ({ verb, preview: { processes_total: pids.length, processes: pids.map((pid) => ({ pid })) } }) as unknown as Act
  expect(confirmWords(act('end', [4, 5]))).toBe('End (2 processes)')
  expect(confirmWords(act('end', [4]))).toBe('End process 4')
  expect(confirmWords(act('start', []))).toBe('Start')
  expect(confirmWords(act('undo', []))).toBe('Put it back')
})
