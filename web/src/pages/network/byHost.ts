import type { LinkLine } from '../../api/client'

export type HostLinks = { host: string; off: LinkLine[]; within: LinkLine[] }

/** Interfaces by host, the busiest host first. Those within a host that carried nothing are left out. */
export function byHost(links: LinkLine[]): HostLinks[] {
  const hosts = new Map<string, HostLinks>()
  for (const l of links) {
    const h = hosts.get(l.host) ?? { host: l.host, off: [], within: [] }
    hosts.set(l.host, h)
    if (l.leads_off) h.off.push(l)
    else if (bytes(l) > 0) h.within.push(l)
  }
  const list = [...hosts.values()]
  for (const h of list) {
    h.off.sort((a, b) => bytes(b) - bytes(a))
    h.within.sort((a, b) => bytes(b) - bytes(a))
  }
  const sum = (h: HostLinks) => h.off.reduce((s, l) => s + bytes(l), 0)
  return list.sort((a, b) => sum(b) - sum(a) || a.host.localeCompare(b.host))
}

function bytes(l: LinkLine): number {
  return l.received_bytes_per_second + l.sent_bytes_per_second
}
