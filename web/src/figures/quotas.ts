import { choices } from '../choices/choices'
import { entry } from './register'
import { figure, title, unitOf, type Unit } from './units'

/** What is counted beside the register, in words. */
const counted: Record<string, string> = {
  processes: 'Processes',
  threads: 'Threads',
  gpu_devices: 'GPUs allotted',
  space_used_bytes: 'Disk space',
}

/** What quotas may be set on beside resources. */
export const countedNames = Object.keys(counted)

/** What a quota limits, for people. */
export function limited(name: string): string {
  return counted[name] ?? title(name)
}

/** The unit in which people read a quota, by the unit it is told in and a figure of its size. */
export function quotaUnit(name: string, told: string, size: number | null): Unit {
  const [bytes, per]: [string, number] = choices().bytes === 'decimal' ? ['GB', 1e9] : ['GiB', 2 ** 30]
  switch (told) {
    case 'count':
      return { name: '', per: 1, digits: 0 }
    case 'core_hours':
    case 'gpu_hours':
      return { name: told.replace('_', '-').replace('gpu', 'GPU'), per: 1, digits: (size ?? 100) < 10 ? 2 : 0 }
    case 'kwh':
      return { name: 'kWh', per: 1, digits: 1 }
    case 'byte_hours':
      return { name: `${bytes}-hours`, per, digits: 0 }
    case 'bytes':
      if (name in counted) return { name: bytes, per, digits: 1 }
      if (entry(name).steps === 'decimal')
        return (size ?? 0) >= 1e12 ? { name: 'TB', per: 1e12, digits: 1 } : { name: 'GB', per: 1e9, digits: 1 }
  }
  return unitOf(name, size)
}

/** A figure of a quota with its unit; a dash where there is none. */
export function quotaFigure(v: number | null, unit: Unit): string {
  return v === null ? '–' : `${figure(v, unit)} ${unit.name}`.trim()
}

/** On which hosts a quota holds. */
export function scopeText(kind: string, name: string): string {
  return kind === 'fleet' ? 'all hosts' : `${kind} ${name}`
}

/** Minutes in words. */
export function lasted(minutes: number): string {
  if (minutes >= 48 * 60) return `${Math.floor(minutes / 1440)} days`
  if (minutes >= 60) return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
  return `${minutes} min`
}
