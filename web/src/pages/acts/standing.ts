import { zoneName } from '../../time/zone'
import type { StandingRule, StandingToAdd } from '../../api/client'

/** A standing rule as it is being written. */
export interface Draft {
  name: string
  condition: string
  except: string
  for: string
  verb: string
  settings: string
  perHour: string
  hours: string
}

/** What is sent of a draft. Settings are written as force=true wait=5s. */
export function ruleOf(d: Draft): StandingToAdd {
  const settings: Record<string, string> = {}
  for (const word of d.settings.split(/[\s,]+/).filter((w) => w !== '')) {
    const at = word.indexOf('=')
    if (at < 0) settings[word] = 'true'
    else settings[word.slice(0, at)] = word.slice(at + 1)
  }
  return {
    name: d.name.trim(),
    condition: d.condition.trim(),
    except: d.except.trim(),
    for: d.for.trim(),
    verb: d.verb.trim(),
    settings,
    per_hour: Number(d.perHour) || 0,
    hours: d.hours.trim(),
    zone: d.hours.trim() === '' ? '' : zoneName(),
  }
}

/** Settings as they are written. */
export const settingsWords = (s: Record<string, string>): string =>
  Object.entries(s)
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([k, v]) => `${k}=${v}`)
    .join(' ')

/** How a rule stands. */
export const stateOf = (r: StandingRule): string => (r.is_on ? 'on' : r.stopped ? 'stopped itself' : 'off')

/** How often. */
export const timesWords = (n: number): string => (n === 0 ? 'not once' : n === 1 ? 'once' : `${n} times`)
