import { written } from './number'
import type { SensorLine } from '../api/client'
import { amountText } from './units'

/** What a sensor tells, with its unit; a dash where it cannot be read. */
export function tells(s: SensorLine): string {
  return s.value === null ? '–' : valueText(s, s.value)
}

function valueText(s: SensorLine, v: number): string {
  switch (s.kind) {
    case 'intrusion':
      return v === 0 ? 'closed' : 'opened'
    case 'supply':
      return v === 0 ? 'off' : 'on'
    case 'energy':
      return amountText('energy', v)
    default:
      return `${written(v, { maximumFractionDigits: s.kind === 'voltage' || s.kind === 'current' ? 2 : 1 })} ${s.unit}`
  }
}

/** How far a sensor is from its nearest threshold, or why it cannot be read, or what else it says. */
export function leftText(s: SensorLine): string {
  if (s.unavailable) return s.unavailable
  if (s.left === undefined) return s.says ?? ''
  return s.left < 0 ? `${valueText(s, -s.left)} beyond ${s.to}` : `${valueText(s, s.left)} until ${s.to}`
}
