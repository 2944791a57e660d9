import type { Told } from '../figures/chart/layers'

/** A small drawing of how a figure went, from zero to its highest, with gaps where nothing was told. */
export function Spark({ steps, label, colour }: { steps: Told[]; label: string; colour: string }) {
  const [width, height] = [120, 30]
  const top = 1.05 * Math.max(0, ...steps.map((v) => v ?? 0)) || 1
  if (steps.length < 2) return null
  const wide = width / steps.length
  const y = (v: number) => (height - (Math.max(v, 0) / top) * height).toFixed(1)
  // Each figure stands for its whole step.
  const runs: string[] = []
  let run = ''
  steps.forEach((v, k) => {
    if (v === null) {
      if (run) runs.push(run)
      run = ''
      return
    }
    run += `${run ? 'L' : 'M'}${(k * wide).toFixed(1)},${y(v)}H${((k + 1) * wide).toFixed(1)}`
  })
  if (run) runs.push(run)
  return (
    <svg width={width} height={height} role="img" aria-label={`${label}, from 0 to its highest`} className="block">
      <line x1={0} x2={width} y1={height - 0.5} y2={height - 0.5} stroke="var(--rule-2)" />
      {runs.map((d) => (
        <path key={d} d={d} fill="none" stroke={colour} strokeWidth={1.3} />
      ))}
    </svg>
  )
}
