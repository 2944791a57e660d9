import { expect, test } from 'vitest'
import { changeOf, usual } from './choices'
import { withColour, withColumns, withWidth } from './lists'

const kept = {
  ...usual,
  columns: { hosts: ['name', 'cpu'], 'workloads.all': ['tenant'] },
  widths: { workloads: { cpu: 140, tenant: 90 }, hosts: { name: 200 } },
  colours: { 'Frost Watch': '#225577' },
}

test('a width is kept beside the others, within what can be seen', () => {
  expect(withWidth('workloads', 'cpu', 140)(usual)).toEqual({ widths: { workloads: { cpu: 140 } } })
  expect(withWidth('workloads', 'cpu', 3)(kept)).toEqual({
    widths: { workloads: { cpu: 24, tenant: 90 }, hosts: { name: 200 } },
  })
  expect(withWidth('gpus', 'host', 9999)(kept)).toMatchObject({
    widths: { gpus: { host: 1200 }, hosts: { name: 200 } },
  })
})

test('columns are kept beside those of other lists, and the usual ones are not kept', () => {
  expect(withColumns('gpus', ['host'], false)(kept)).toEqual({ columns: { ...kept.columns, gpus: ['host'] } })
  expect(withColumns('hosts', [], true)(kept)).toEqual({
    columns: { 'workloads.all': ['tenant'] },
    widths: { workloads: { cpu: 140, tenant: 90 } },
  })
  expect(withColumns('workloads.all', [], true, 'workloads')(kept)).toEqual({
    columns: { hosts: ['name', 'cpu'] },
    widths: { hosts: { name: 200 } },
  })
})

test('a colour is kept beside those of other tenants', () => {
  expect(withColour('Cellar Intake', '#aa3311')(kept)).toEqual({
    colours: { 'Frost Watch': '#225577', 'Cellar Intake': '#aa3311' },
  })
  expect(withColour('Frost Watch')(kept)).toEqual({ colours: {} })
})

test('a change is told of what is kept when it is sent', () => {
  expect(changeOf(kept, { theme: 'dark' })).toEqual({ theme: 'dark' })
  const first = { ...kept, ...changeOf(kept, withWidth('hosts', 'cpu', 70)) }
  expect(changeOf(first, withWidth('disks', 'read', 80))).toEqual({
    widths: { ...kept.widths, hosts: { name: 200, cpu: 70 }, disks: { read: 80 } },
  })
})
