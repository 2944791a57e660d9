import type { components } from '../../api/schema.gen'

type Schemas = components['schemas']
export type Placement = Schemas['Placement']
export type PlacedCPU = Schemas['PlacedCPU']
export type PlacedPin = Schemas['PlacedPin']

/** What of a CPU's time makes its cells bright. */
export type Shade = 'busy' | 'user' | 'system'

/** How bright a cell is, from 0 to 1; null where that is not known. */
export function brightness(c: PlacedCPU, k: number, shade: Shade): number | null {
  if (shade === 'user') return c.user_part[k] ?? null
  if (shade === 'system') return c.system_part[k] ?? null
  return c.busy_part[k] ?? c.top_part[k] ?? null
}

/** Reads a list of CPUs as the kernel writes it, such as 0-3,8. */
export function cpusOf(list: string): Set<number> {
  const all = new Set<number>()
  for (const part of list.split(',')) {
    const [from, to] = part.split('-').map(Number)
    if (part === '' || from === undefined || Number.isNaN(from)) continue
    for (let cpu = from; cpu <= (to ?? from); cpu++) all.add(cpu)
  }
  return all
}

/** The declarations of a CPU. */
export const pinsOf = (p: Placement, cpu: number): PlacedPin[] => p.pins.filter((pin) => cpusOf(pin.cpus).has(cpu))

/**
 * Whether who had most of a CPU in a step is somebody else than whom it was declared for alone. False where that cannot
 * be told: of a rule it is not known here whom it matches.
 */
export function isStray(p: Placement, pins: PlacedPin[], top: number, k: number, holders: Set<string>): boolean {
  const who = p.who[top]
  const at = Date.parse(p.starts[k]!)
  const held = pins.filter(
    (pin) => pin.exclusive && Date.parse(pin.from) <= at && (!pin.until || at < Date.parse(pin.until)),
  )
  if (!who || held.length === 0 || held.some((pin) => !holders.has(pin.holder))) return false
  return held.every((pin) => pin.holder !== who.name && pin.holder !== who.tenant)
}

/** How often somebody else had most of a CPU than in the step before. */
export function changes(c: PlacedCPU): number {
  const told = c.top.filter((t) => t >= 0)
  return told.filter((t, i) => i > 0 && t !== told[i - 1]).length
}

/** The mean of what is known, weighed by how long it was told. */
export function meanOf(parts: (number | null)[], seconds: number[]): number | null {
  let sum = 0
  let long = 0
  parts.forEach((v, k) => {
    if (v === null) return
    sum += v * seconds[k]!
    long += seconds[k]!
  })
  return long > 0 ? sum / long : null
}

/** Who had most of a CPU over the span: by the time of the steps in which they had most. */
export function mostly(c: PlacedCPU, seconds: number[]): number {
  const by = new Map<number, number>()
  c.top.forEach((t, k) => {
    if (t >= 0) by.set(t, (by.get(t) ?? 0) + (c.top_part[k] ?? 0) * seconds[k]!)
  })
  return [...by].sort(([, a], [, b]) => b - a)[0]?.[0] ?? -1
}
