import type { CSSProperties, ReactNode } from 'react'
import type { DraftPlate, DraftRow } from '../../folio/draft'

/** The rows of a folio: plates beside each other by their widths; in a narrow window below each other. */
export function Rows({
  rows,
  plate,
  before,
}: {
  rows: DraftRow[]
  plate: (p: DraftPlate, row: DraftRow, at: { row: number; at: number }) => ReactNode
  /** What stands before each row, and behind the last. */
  before?: (row: number) => ReactNode
}) {
  return (
    <>
      {rows.map((r, row) => (
        <div key={r.key}>
          {before?.(row)}
          <div
            className="mb-4.5 grid items-stretch gap-4.5 max-lg:grid-cols-1 lg:[grid-template-columns:var(--widths)]"
            style={{ '--widths': r.plates.map((p) => `minmax(0,${p.width || 1}fr)`).join(' ') } as CSSProperties}
            data-row={row}
          >
            {r.plates.map((p, at) => (
              <div key={p.key} className="grid min-w-0" data-plate={p.key}>
                {plate(p, r, { row, at })}
              </div>
            ))}
          </div>
        </div>
      ))}
      {before?.(rows.length)}
    </>
  )
}
