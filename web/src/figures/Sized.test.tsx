import { afterEach, expect, test } from 'vitest'
import { setChoices, usual } from '../choices/choices'
import { withWidth, withoutWidths } from './Sized'

afterEach(() => setChoices(usual))

test('a width is kept beside the others, within what can be seen', () => {
  expect(withWidth('workloads', 'cpu', 140)).toEqual({ workloads: { cpu: 140 } })
  setChoices({ ...usual, widths: { workloads: { cpu: 140, tenant: 90 }, hosts: { name: 200 } } })
  expect(withWidth('workloads', 'cpu', 3)).toEqual({ workloads: { cpu: 24, tenant: 90 }, hosts: { name: 200 } })
  expect(withWidth('gpus', 'host', 9999)).toMatchObject({ gpus: { host: 1200 }, hosts: { name: 200 } })
  expect(withoutWidths('workloads')).toEqual({ hosts: { name: 200 } })
  expect(withoutWidths('disks')).toMatchObject({ workloads: { cpu: 140 } })
})
