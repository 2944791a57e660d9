import { describe, expect, it } from 'vitest'
import { measureText } from './measure'

describe('a measure beside the amounts', () => {
  it('is named without its unit, and shown with one that suits', () => {
    expect(measureText({ name: 'cpu_throttled_us', value: 87_604_000 })).toEqual(['CPU throttled', '87.6 s'])
    expect(measureText({ name: 'memory_working_set_bytes', value: 2 ** 31 })).toEqual(['memory working set', '2 GiB'])
    expect(measureText({ name: 'disk_read_bytes', value: 13_980_000_000 })).toEqual(['disk read', '14 GB'])
    expect(measureText({ name: 'memory_oom_kills', value: 3 })).toEqual(['memory oom kills', '3'])
  })
})
