import type { GPUSpread } from '../../api/client'
import { spreadText } from '../../figures/gpus'

const from = ['0', '5', '10', '20', '30', '40', '50', '60', '70', '80', '90']

/** How a use was spread: a column for each band of use, as high as the part of the time it had. */
export function Spread({ spread, name }: { spread: GPUSpread; name: string }) {
  const most = Math.max(...spread.bands, 0.01)
  const width = 8
  return (
    <svg
      role="img"
      aria-label={`${name}: ${spreadText(spread)}`}
      viewBox={`0 0 ${width * spread.bands.length} 24`}
      className="h-6 w-22"
    >
      {spread.bands.map((part, i) => (
        <rect
          key={from[i]}
          x={i * width + 1}
          y={23 - (22 * part) / most}
          width={width - 2}
          height={(22 * part) / most}
          fill="var(--ink-2)"
        >
          <title>{`from ${from[i]} % on for ${(100 * part).toFixed(0)} % of the time`}</title>
        </rect>
      ))}
      <line x1="0" y1="23.5" x2={width * spread.bands.length} y2="23.5" stroke="var(--rule-2)" />
    </svg>
  )
}
