export type Part = { name: string; value: number; colour: string }

/** Parts of a whole side by side, from zero to the whole; what is free is the track behind them. Unknown is hatched. */
export function StackBar({
  label,
  whole,
  parts,
  thin,
  unknown,
}: {
  label: string
  whole: number | null
  parts: Part[]
  thin?: boolean
  unknown?: boolean
}) {
  if (unknown) return <div className="stack unknown" role="img" aria-label={`${label}: not available`} />
  const sum = parts.reduce((a, p) => a + Math.max(0, p.value), 0)
  const end = whole ?? sum
  const shown = parts.filter((p) => end > 0 && p.value / end > 0.0005)
  const words = shown.map((p) => `${p.name} ${((100 * p.value) / end).toFixed(1)} %`).join(', ')
  return (
    <div
      className={thin ? 'stack thin' : 'stack'}
      role="img"
      aria-label={`${label}: ${words || 'nothing used'}${whole === null ? ' of what is in use; the capacity is not known' : ''}`}
    >
      {shown.map((p) => (
        <i key={p.name} title={p.name} style={{ width: `${(100 * p.value) / end}%`, background: p.colour }} />
      ))}
    </div>
  )
}
