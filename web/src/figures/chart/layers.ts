import { figure, roundScale, whole, type Unit } from '../units'

/** One step of a chart has a figure, or none was told. */
export type Told = number | null

/** What is drawn of one group: its figures by step, in the measure's mean unit. */
export interface Layer {
  key: string
  name: string
  colour: string
  /** Drawn hatched: what nobody was charged with. */
  isUnknown?: boolean
  mean: Told[]
  /** Over the whole span, where it is not the mean of what steps had by their time. */
  whole?: Told
  /** The highest within each step, where that is kept. */
  peak?: Told[]
}

/** A figure that the layers are held against: a capacity, a quota, a limit. */
export interface Bound {
  name: string
  value: number
}

/**
 * The tops of layers that stand on each other; null where none of them is known. A layer without a figure has none, and
 * one below zero, as a residual may be, has no height.
 */
export function topsOf(layers: Layer[]): Told[][] {
  const n = layers[0]?.mean.length ?? 0
  const tops: Told[][] = layers.map(() => [])
  for (let k = 0; k < n; k++) {
    const isKnown = layers.some((l) => l.mean[k] !== null)
    let sum = 0
    layers.forEach((l, i) => {
      sum += Math.max(l.mean[k] ?? 0, 0)
      tops[i]!.push(isKnown ? sum : null)
    })
  }
  return tops
}

/** What all layers add up to, with their signs; null where none of them is known. */
export function sumOf(layers: Layer[]): Told[] {
  return (layers[0]?.mean ?? []).map((_, k) =>
    layers.some((l) => l.mean[k] !== null) ? layers.reduce((sum, l) => sum + (l.mean[k] ?? 0), 0) : null,
  )
}

/** The highest of some figures, and at which step; nothing where none is known. */
export function highestOf(figures: Told[][]): { value: number; at: number } | undefined {
  let found: { value: number; at: number } | undefined
  for (const list of figures)
    list.forEach((v, at) => {
      if (v !== null && (!found || v > found.value)) found = { value: v, at }
    })
  return found
}

/** What of a bound a chart must fill to be drawn against it: below, its lines would lie on the ground. */
const leastFilled = 0.1

/**
 * Where a chart's scale ends, from zero, and why in words: with the nearest bound above what is drawn, or with a round
 * figure, which is said. What was above a bound is said with when that was first.
 */
export function scaleOf(
  figures: Told[][],
  bounds: Bound[],
  unit: Unit,
  when: (step: number) => string,
): { end: number; words: string } {
  const highest = highestOf(figures)?.value ?? 0
  const text = (v: number) => `${whole(v, unit)} ${unit.name}`
  const exceeded = bounds
    .filter((b) => highest > b.value)
    .map((b) => {
      const first = Math.min(...figures.map((f) => f.findIndex((v) => v !== null && v > b.value)).filter((i) => i >= 0))
      return `${b.name}, ${text(b.value)}, was exceeded first ${when(first)}`
    })
  const above = bounds.filter((b) => b.value >= highest).sort((a, b) => a.value - b.value)[0]
  let end: number
  let words: string
  if (above && highest >= leastFilled * above.value) {
    end = above.value
    words = `The scale is from 0 to ${text(end)}: ${above.name}.`
  } else {
    end = roundScale(1.04 * highest, unit)
    words = `The scale is from 0 to ${figure(end, { ...unit, digits: unit.digits + 1 })} ${unit.name}, a round figure above the highest`
    words += above ? `: ${above.name} is ${text(above.value)}.` : '.'
  }
  if (exceeded.length > 0) words += ` ${exceeded.map((e) => e[0]!.toUpperCase() + e.slice(1)).join('; ')}.`
  return { end, words }
}

/** The steps in a row of which nothing was told, as places from and to (the one after the last). */
export function gapsOf(seconds: number[]): [number, number][] {
  const gaps: [number, number][] = []
  seconds.forEach((s, k) => {
    if (s > 0) return
    const last = gaps[gaps.length - 1]
    if (last && last[1] === k) last[1] = k + 1
    else gaps.push([k, k + 1])
  })
  return gaps
}
