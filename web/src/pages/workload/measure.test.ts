import { describe, expect, it } from 'vitest'
import { measureText } from './measure'

describe('a measure beside the amounts', () => {
  it('is named without its unit, and shown with one that suits', () => {
    expect(measureText({ name: 'cpu_throttled_us', value: 87_604_000 })).toEqual(['CPU throttled', '87.6 s'])
    expect(measureText({ name: 'memory_anon_bytes', value: 2 ** 31 })).toEqual(['Memory, anonymous', '2 GiB'])
    expect(measureText({ name: 'disk_read_bytes', value: 13_980_000_000 })).toEqual(['Disk, read', '14 GB'])
    expect(measureText({ name: 'spilt', value: 3 })).toEqual(['spilt', '3']) // not in the register: of a newer service
  })
})
