import type { ResourceUse } from '../api/client'
import type { Unit } from './units'
import { Meaning } from './BalanceBar'
import { moment } from './text'
import { figure, whole } from './units'

/** How a use stands against its quota, in a word; where the quota changed in the span, what was in force when. */
export function Stand({ use, unit }: { use: ResourceUse; unit: Unit }) {
  const told = standing(use, unit)
  const history = inForce(use, unit)
  if (history.length > 0)
    return (
      <Meaning
        meaning={
          <ul>
            {history.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        }
      >
        <span className={told ? `font-semibold ${told.colour}` : 'text-ink-2'}>{told?.text ?? 'quota changes'}</span>
      </Meaning>
    )
  if (told) return <span className={`font-semibold ${told.colour}`}>{told.text}</span>
  if (use.missing > 0 && use.used_mean !== null) return <span className="text-ink-2">{use.missing} not counted</span>
  return null
}

/** The worst that is to be said of a use against its quota; undefined where all is well. */
export function standing(use: ResourceUse, unit: Unit): { text: string; colour: string } | undefined {
  if (use.over)
    return {
      text: use.terms ? 'over for a time' : `${figure(use.used_mean! - use.quota!, unit)} over`,
      colour: 'text-wine',
    }
  if (use.soft_over) return { text: 'over soft mark', colour: 'text-amber' }
  if (use.peak_over) return { text: 'peak over', colour: 'text-amber' }
  return undefined
}

/** A line for each limit that was in force in the span, where it changed, and for the one to come. */
export function inForce(use: ResourceUse, unit: Unit): string[] {
  const limit = (quota: number | null, soft: number | null) =>
    quota !== null ? `quota ${whole(quota, unit)}` : soft !== null ? `soft mark ${whole(soft, unit)}` : 'no quota'
  const lines = (use.terms ?? []).map((t) => {
    const used = t.used_mean === null ? 'use not available' : `${figure(t.used_mean, unit)} ${unit.name} used`
    return `Until ${moment(t.to)}: ${limit(t.quota, t.soft)}, ${used}${t.over ? ', over' : ''}.`
  })
  if (use.coming) lines.push(`From ${moment(use.coming.from)} on: ${limit(use.coming.quota, use.coming.soft)}.`)
  return lines
}
