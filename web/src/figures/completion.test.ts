import { expect, test } from 'vitest'
import { completionsOf } from './completion'

const attributes = [
  { name: 'kind', type: 'text', values: ['container', 'job', 'vm'] },
  { name: 'name', type: 'text' },
  { name: 'host', type: 'text' },
  { name: 'uid', type: 'number' },
  { name: 'pools', type: 'list' },
  { name: 'labels', type: 'map' },
]
const known = { host: ['cellar-1', 'press-1'] }

test('an expression goes on with what may be asked about, and with what is known of it', () => {
  for (const [text, want] of [
    ['k', ['kind']],
    ['kind', []],
    ['kind ', ["kind == '", "kind != '"]],
    ["kind == '", ["kind == 'container'", "kind == 'job'", "kind == 'vm'"]],
    ['kind == "J', ['kind == "job"']],
    ['kind ==', ["kind =='container'", "kind =='job'", "kind =='vm'"]],
    ["kind == 'job' && n", ["kind == 'job' && name"]],
    ["kind == 'job' && (h", ["kind == 'job' && (host"]],
    ['!k', ['!kind']],
    ["host != 'pr", ["host != 'press-1'"]],
    ["name == '", []],
    ['uid ', ['uid == ', 'uid >= ', 'uid <= ']],
    ["'presses' in ", ["'presses' in pools"]],
    ["'presses' in po", ["'presses' in pools"]],
    ["kind == 'job' ", []],
    ['wine ', []],
    ["wine == '", []],
  ] as const)
    expect(completionsOf(text, attributes, known), text).toEqual(want)
  expect(completionsOf('', attributes, known)).toEqual(['kind', 'name', 'host', 'uid', 'labels'])
  expect(completionsOf("host == '", attributes, { host: Array.from({ length: 40 }, (_, i) => `h${i}`) })).toHaveLength(
    12,
  )
})
