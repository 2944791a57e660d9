import type { Timeline } from '../api/client'

type Stretch = { from: number; to: number }
const base = 28
const height = 26

/** The ruler's drawing: busy share from zero to the whole capacity; stretches without records are drawn as unknown. */
export function RulerChart({
  timeline,
  window,
  selected,
  urgent,
}: {
  timeline: Timeline | undefined
  window: { from: Date; to: Date }
  selected: Stretch
  /** When something happened that somebody should look at. */
  urgent: number[]
}) {
  const start = window.from.getTime()
  const length = window.to.getTime() - start
  const x = (t: number) => Math.min(1000, Math.max(0, (1000 * (t - start)) / length))
  const { known, unknown } = runsOf(timeline, { from: start, to: window.to.getTime() })
  return (
    <>
      <defs>
        <pattern id="ruler-unknown" width="6" height="6" patternUnits="userSpaceOnUse">
          <path d="M0.5 0V6" stroke="var(--rule-2)" strokeWidth="1" />
        </pattern>
      </defs>
      {unknown.map((u) => (
        <rect
          key={u.from}
          x={x(u.from)}
          y={base - 8}
          width={x(u.to) - x(u.from)}
          height="8"
          fill="url(#ruler-unknown)"
        />
      ))}
      {known.map((run) => {
        const line = run.map((p) => `${x(p.at).toFixed(1)} ${(base - height * p.busy).toFixed(1)}`).join('L')
        const first = x(run[0]!.at).toFixed(1)
        const last = x(run[run.length - 1]!.at).toFixed(1)
        return (
          <g key={run[0]!.at}>
            <path d={`M${first} ${base}L${line}L${last} ${base}Z`} fill="var(--track)" />
            <path d={`M${line}`} fill="none" stroke="var(--rule-2)" vectorEffect="non-scaling-stroke" />
          </g>
        )
      })}
      <line x1="0" x2="1000" y1={base} y2={base} stroke="var(--rule-2)" vectorEffect="non-scaling-stroke" />
      <path
        d={urgent.map((t) => `M${x(t).toFixed(1)} 0V9`).join('')}
        stroke="var(--wine)"
        strokeWidth="2"
        vectorEffect="non-scaling-stroke"
      />
      <rect
        x={x(selected.from)}
        y="1"
        width={Math.max(x(selected.to) - x(selected.from), 1)}
        height={base - 1}
        fill="var(--vine)"
        opacity=".16"
      />
      <path
        d={`M${x(selected.from)} 1V${base}M${x(selected.to)} 1V${base}`}
        stroke="var(--vine)"
        strokeWidth="2"
        vectorEffect="non-scaling-stroke"
      />
    </>
  )
}

type Known = { at: number; busy: number }

/** Cuts a timeline into runs that have figures and stretches that have none. Exported for its test. */
export function runsOf(timeline: Timeline | undefined, window: Stretch): { known: Known[][]; unknown: Stretch[] } {
  if (!timeline) return { known: [], unknown: [] }
  const step = timeline.stretch_seconds * 1000
  const known: Known[][] = []
  const unknown: Stretch[] = []
  let end = window.from
  for (const p of timeline.points) {
    if (p.busy_share === null) continue
    const at = Date.parse(p.start)
    if (at > end + step || known.length === 0) {
      if (at > end + step) unknown.push({ from: end, to: at })
      known.push([])
    }
    known[known.length - 1]!.push(
      { at, busy: Math.min(1, p.busy_share) },
      { at: at + step, busy: Math.min(1, p.busy_share) },
    )
    end = at + step
  }
  // The newest figures are up to two minutes old: that is not a gap.
  if (window.to - end > step + 180_000) unknown.push({ from: end, to: window.to })
  return { known, unknown }
}
