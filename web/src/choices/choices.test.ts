import { afterEach, beforeEach, expect, it } from 'vitest'
import { entry, setRegister } from '../figures/register'
import { memory, networkRate, rate, size } from '../figures/text'
import { amountText, cpusOf, cpusOfWorkload, figure, meanText, unitOf } from '../figures/units'
import { setChoices, usual } from './choices'

beforeEach(() =>
  setRegister([
    { ...entry('x'), name: 'cpu', title: 'CPU', mean_unit: 'cores', unit: 'cpu_seconds', meaning: 'x' },
    { ...entry('x'), name: 'memory', title: 'Memory', mean_unit: 'bytes', unit: 'bytes', steps: 'binary' },
    { ...entry('x'), name: 'disk', title: 'Disk', mean_unit: 'bytes_per_second', unit: 'bytes', steps: 'decimal' },
    {
      ...entry('x'),
      name: 'network',
      title: 'Network',
      mean_unit: 'x',
      unit: 'bytes',
      steps: 'decimal',
      in_bits: true,
    },
  ]),
)
afterEach(() => setChoices(usual))

const unit = (resource: string, capacity: number | null = null) => unitOf(resource, capacity).name

it('shows what suits each where nothing was chosen', () => {
  expect([unit('cpu'), unit('memory'), unit('disk'), unit('network')]).toEqual(['cores', 'GiB', 'MB/s', 'Gbit/s'])
  expect(meanText('cpu', 2.734)).toBe('2.73 cores')
  expect(meanText('memory', 3 * 2 ** 30)).toBe('3 GiB')
  expect(meanText('network', 12_345_678)).toBe('12.3 MB/s')
  expect([size(2e9), memory(2 ** 31), rate(1500)]).toEqual(['2 GB', '2 GiB', '1.5 kB/s'])
})

it('counts bytes by the steps that were chosen, everywhere', () => {
  setChoices({ ...usual, bytes: 'decimal' })
  expect([unit('memory'), unit('memory', 3e9), unit('disk')]).toEqual(['GB', 'MB', 'MB/s'])
  expect(meanText('memory', 3e9)).toBe('3 GB')
  expect(amountText('memory', 2 ** 30)).toBe('1.07 GB')
  setChoices({ ...usual, bytes: 'binary' })
  expect([unit('memory'), unit('disk')]).toEqual(['GiB', 'MiB/s'])
  expect([size(2 ** 31), rate(2 ** 20)]).toEqual(['2 GiB', '1 MiB/s'])
  expect(amountText('disk', 3 * 2 ** 20)).toBe('3 MiB')
})

it('counts networks in bits or bytes', () => {
  setChoices({ ...usual, network: 'bits' })
  expect(meanText('network', 1_000_000)).toBe('8 Mbit/s')
  expect(networkRate(125)).toBe('1 kbit/s')
  expect(meanText('disk', 1_000_000), 'disks are not networks').toBe('1 MB/s')
  setChoices({ ...usual, network: 'bytes' })
  expect([unit('network'), networkRate(125)]).toEqual(['MB/s', '125 B/s'])
})

it('tells CPU time as a percentage, and of what', () => {
  setChoices({ ...usual, cpu: 'percent' })
  expect(meanText('cpu', 2.734)).toBe('273 % of a CPU')
  expect(figure(2.734, unitOf('cpu', 16))).toBe('273')
  expect(unit('cpu')).toBe('% of a CPU')
})

it('tells CPU time as a part of the host or of the limit, where that is known', () => {
  const limited = cpusOfWorkload({ host_cpus: 16, may_use_cpus: 2, may_use_by: 'limit' })
  const whole = cpusOfWorkload({ host_cpus: 16, may_use_cpus: 16, may_use_by: 'host' })
  setChoices({ ...usual, cpu: 'limit' })
  expect(meanText('cpu', 0.5, limited)).toBe('25.0 % of its limit')
  expect(meanText('cpu', 0.5, whole)).toBe('3.1 % of the host')
  expect(meanText('cpu', 0.5)).toBe('50 % of a CPU')
  expect(unitOf('cpu', 104, cpusOf('all hosts', 104)).name).toBe('% of all hosts')
  expect(figure(26, unitOf('cpu', 104, cpusOf('all hosts', 104)))).toBe('25.0')
  setChoices({ ...usual, cpu: 'host', decimals: 0 })
  expect(meanText('cpu', 0.5, limited)).toBe('3 % of the host')
  expect(unitOf('memory', null, limited).name).toBe('GiB')
  setChoices({ ...usual, cpu: 'percent' })
  expect(meanText('cpu', 0.5, limited)).toBe('50 % of a CPU')
  setChoices(usual)
  expect(meanText('cpu', 0.5, limited)).toBe('0.50 cores')
  expect(cpusOf('press-1', 0)).toBeUndefined()
})

it('has the decimals that were chosen', () => {
  setChoices({ ...usual, decimals: 3, cpu: 'percent' })
  expect(meanText('cpu', 2.73456)).toBe('273.456 % of a CPU')
  expect(size(1_500_000)).toBe('1.500 MB')
  expect(figure(3 * 2 ** 30, unitOf('memory', null))).toBe('3.000')
  setChoices({ ...usual, decimals: 0 })
  expect(meanText('cpu', 2.7)).toBe('3 cores')
})
