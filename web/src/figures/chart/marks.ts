import { clock } from '../../time/zone'
import type { Happened } from '../../api/client'

/** Something that happened, where it stands on a drawing. */
export interface Mark {
  at: number // milliseconds since 1970
  isUrgent: boolean
  text: string
}

/** How many events of one step are told in words. */
const mostTold = 3

/** The marks of what happened between two moments, in order. What nobody need look at is left out where there are many. */
export function marksOf(events: Happened[] | undefined, from: number, to: number, most: number): Mark[] {
  const within = (events ?? []).filter((e) => Date.parse(e.at) >= from && Date.parse(e.at) < to)
  const shown = within.length > most ? within.filter((e) => e.urgent) : within
  return shown
    .map((e) => ({ at: Date.parse(e.at), isUrgent: e.urgent, text: `${e.name ? `${e.name}: ` : ''}${e.text}` }))
    .sort((a, b) => a.at - b.at)
}

/** What happened in a step, in words; the urgent first. */
export function toldOf(marks: Mark[], from: number, to: number): string[] {
  const here = marks
    .filter((m) => m.at >= from && m.at < to)
    .sort((a, b) => Number(b.isUrgent) - Number(a.isUrgent) || a.at - b.at)
  const told = here.slice(0, mostTold).map((m) => `${clock(m.at)} ${m.text}`)
  return here.length > mostTold ? [...told, `and ${here.length - mostTold} more`] : told
}
