/** A line of means over a span, from zero to a little above the largest of them and the mark, which is a line across. */
export function Trend({ points, mark, label }: { points: number[]; mark: number | null; label: string }) {
  if (points.length < 2) return <span className="text-ink-2">–</span>
  const top = 1.05 * Math.max(mark ?? 0, ...points) || 1
  const [width, height] = [110, 26]
  const x = (i: number) => (i * width) / (points.length - 1)
  const y = (v: number) => height - (v / top) * height
  const line = points.map((v, i) => `${x(i).toFixed(1)},${y(v).toFixed(1)}`).join(' ')
  return (
    <svg width={width} height={height} role="img" aria-label={label} className="block">
      <polyline points={`0,${height} ${line} ${width},${height}`} fill="var(--rule)" stroke="none" />
      <polyline points={line} fill="none" stroke="var(--vine)" strokeWidth={1.3} />
      {mark !== null && (
        <line x1={0} x2={width} y1={y(mark)} y2={y(mark)} stroke="var(--wine)" strokeDasharray="3 2" strokeWidth={1} />
      )}
    </svg>
  )
}
