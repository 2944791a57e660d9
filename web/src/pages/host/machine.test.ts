import { describe, expect, it } from 'vitest'
import type { Machine } from '../../api/client'
import { machineLines } from './machine'

const module = { slot: 'A1', size_bytes: 16 * 2 ** 30, type: 'DDR5', megatransfers_per_second: 4400 }
const machine: Machine = {
  at: '2026-10-05T08:00:00Z',
  facts: [
    { what: 'vendor', text: 'Cooper' },
    { what: 'board', unavailable: 'not stated by this machine' },
  ],
  memory_modules: [module, { ...module, slot: 'A2' }, { slot: 'B1', size_bytes: 0 }],
  links: [],
  starts: [],
  failed: [],
  stuck: [],
  failed_unavailable: 'no init system is asked',
  devices: [
    {
      name: 'sda',
      number: 8,
      kind: 'drive',
      parents: [],
      controller: '',
      model: 'Cooper HD',
      label: '',
      rotates: true,
      size_bytes: 8e12,
    },
  ],
  swaps: [],
  gpus: ['0 Cooper Leaf 48', '1 Cooper Leaf 48 (lost)'],
  sensors: 3,
}

describe('what a machine is made of', () => {
  it('puts modules of one kind together, and tells why something is not known', () => {
    expect(machineLines(machine)).toEqual([
      ['vendor', 'Cooper', undefined],
      ['board', '', 'not stated by this machine'],
      ['memory modules', '2 of 16 GiB DDR5 at 4400 MT/s; 1 slot empty', undefined],
      ['drives', 'sda 8 TB Cooper HD'],
      ['swap', 'none'],
      ['GPUs', '0 Cooper Leaf 48, 1 Cooper Leaf 48 (lost)'],
      ['failed', 'nothing', 'no init system is asked'],
      ['stuck', 'nothing', 'no init system is asked'],
    ])
  })
})
