import { describe, expect, it } from 'vitest'
import type { LinkLine } from '../../api/client'
import { byHost } from './byHost'

const link = (host: string, name: string, received: number, sent: number, leads_off = false): LinkLine => ({
  host,
  name,
  leads_off,
  kind: leads_off ? 'physical' : 'veth',
  line_rate_bytes_per_second: null,
  received_bytes_per_second: received,
  sent_bytes_per_second: sent,
  received_packets_per_second: 0,
  sent_packets_per_second: 0,
  dropped_packets: 0,
  errors: 0,
  received_share: null,
  sent_share: null,
})

describe('interfaces by host', () => {
  it('puts the busiest host first, by what leaves it, and idle ones within it nowhere', () => {
    const hosts = byHost([
      link('press-1', 'eth0', 10, 5, true),
      link('cellar-1', 'veth3', 1, 1),
      link('cellar-1', 'veth4', 900, 0),
      link('cellar-1', 'veth5', 0, 0),
      link('cellar-1', 'eth0', 20, 0, true),
      link('cellar-1', 'eth1', 0, 0, true),
    ])
    expect(hosts.map((h) => [h.host, h.off.map((l) => l.name), h.within.map((l) => l.name)])).toEqual([
      ['cellar-1', ['eth0', 'eth1'], ['veth4', 'veth3']],
      ['press-1', ['eth0'], []],
    ])
  })
})
