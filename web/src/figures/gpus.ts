import { written } from './number'
import { memory } from './text'
import type { GPUFigure, GPULine, GPUSpread } from '../api/client'
import { amountText } from './units'
import { percent } from './text'

/** How long something lasted, as people say it. */
export function lasted(milliseconds: number): string {
  const minutes = Math.max(0, Math.floor(milliseconds / 60_000))
  if (minutes >= 48 * 60) return `${Math.floor(minutes / 1440)} days`
  if (minutes >= 60) return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
  return `${minutes} min`
}

/** The state of a GPU, and since when. */
export function stateText(g: Pick<GPULine, 'state' | 'idle_since'>, until: string): string {
  if (g.state === 'idle' && g.idle_since) return `idle for ${lasted(Date.parse(until) - Date.parse(g.idle_since))}`
  return g.state === 'unknown' ? 'not told' : g.state
}

/** How a use swung, in a sentence. */
export function spreadText(s: GPUSpread): string {
  const median = s.median < 0.05 ? 'below 5 %' : percent(s.median)
  return (
    `Over ${lasted(1000 * s.over_seconds)}: mean ${percent(s.mean)}, median ${median}; above 80 % for ` +
    `${percent(s.above_80_percent)} of the time, below 5 % for ${percent(s.below_5_percent)}.`
  )
}

/** A figure of a GPU with its unit; null where there is none. */
export function gpuFigure(f: GPUFigure): string | null {
  if (f.text) return f.text
  if (f.value === undefined || f.value === null) return null
  switch (f.unit) {
    case 'B':
      return memory(f.value)
    case 'J':
      return amountText('energy', f.value)
    case 'Hz':
      return `${written(f.value / 1e6, { maximumFractionDigits: 0 })} MHz`
    default:
      return `${written(f.value, { maximumFractionDigits: 2 })} ${f.unit ?? ''}`.trim()
  }
}

/** By what a GPU is a workload's, and how it is numbered inside; nothing where it was not given. */
export function givenText(g: GPULine, workload: number): string {
  const h = g.holders.find((x) => x.id === workload)
  if (!h) return ''
  const by = h.number_inside >= 0 ? `as number ${h.number_inside}, by ${h.by}` : h.by
  return h.claim ? `${by} alone` : by
}
