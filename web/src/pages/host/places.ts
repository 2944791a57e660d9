import type { CPULine } from '../../api/client'

/** CPUs as they are built: nodes apart, in each the cores, in each core its CPUs. A node or core that is not known is -1. */
export type NodePlace = { node: number; cores: CPULine[][] }

export function layOut(cpus: CPULine[]): NodePlace[] {
  const nodes = new Map<number, Map<string, CPULine[]>>()
  for (const c of [...cpus].sort((a, b) => a.cpu - b.cpu)) {
    const cores = nodes.get(c.numa_node) ?? new Map<string, CPULine[]>()
    nodes.set(c.numa_node, cores)
    const core = c.core < 0 ? `CPU ${c.cpu}` : `${c.package}/${c.core}`
    cores.set(core, [...(cores.get(core) ?? []), c])
  }
  return [...nodes].sort(([a], [b]) => a - b).map(([node, cores]) => ({ node, cores: [...cores.values()] }))
}

/**
 * Whose time a CPU's was, in seconds by tenant: its holder's first, then most first. What no workload is charged with there is the
 * kernel's, where tasks' time is counted; elsewhere it is not known whose it was.
 */
export function timeOf(c: CPULine, holder?: string): { tenant: string; seconds: number }[] {
  const by = new Map<string, number>()
  for (const s of c.shares) by.set(s.tenant, (by.get(s.tenant) ?? 0) + s.cpu_seconds)
  const tenants = [...by]
    .map(([tenant, seconds]) => ({ tenant, seconds }))
    .sort((a, b) => Number(b.tenant === holder) - Number(a.tenant === holder) || b.seconds - a.seconds)
  const interrupts = c.irq_seconds + c.softirq_seconds
  return [
    ...tenants,
    { tenant: kernel, seconds: interrupts + Math.max(c.other_seconds ?? 0, 0) },
    { tenant: untold, seconds: c.untold_seconds ?? 0 },
  ].filter((t) => t.seconds > 0)
}

export const kernel = 'kernel'
export const untold = 'not told apart'
