import { expect, test } from 'vitest'
import type { StandingRule } from '../../api/client'
import { ruleOf, settingsWords, stateOf, timesWords, type Draft } from './standing'

const draft: Draft = {
  name: ' loud ',
  condition: 'cpu_cores_mean > 4.0',
  except: '',
  for: '10m',
  verb: 'end',
  settings: 'force, wait=5s',
  perHour: '2',
  hours: '',
}

test('a draft is sent as what it says', () => {
  expect(ruleOf(draft)).toEqual({
    name: 'loud',
    condition: 'cpu_cores_mean > 4.0',
    except: '',
    for: '10m',
    verb: 'end',
    settings: { force: 'true', wait: '5s' },
    per_hour: 2,
    hours: '',
    zone: '',
  })
  expect(ruleOf({ ...draft, hours: '08:00-18:00' }).zone).not.toBe('')
  expect(ruleOf({ ...draft, perHour: 'many' }).per_hour).toBe(0)
})

test('words for people', () => {
  expect(settingsWords({ wait: '5s', force: 'true' })).toBe('force=true wait=5s')
  expect(stateOf({ is_on: false, stopped: 'too many' } as StandingRule)).toBe('stopped itself')
  expect([0, 1, 2].map(timesWords)).toEqual(['not once', 'once', '2 times'])
})
