import type { ReactNode } from 'react'

/** A plain table that prints well. */
export function Table({
  name,
  heads,
  figures,
  rows,
}: {
  name: string
  heads: string[]
  figures: number[]
  rows: ReactNode[][]
}) {
  return (
    <div className="overflow-x-auto">
      <table aria-label={name} className="w-full">
        <thead>
          <tr>
            {heads.map((h, i) => (
              <th key={i} scope="col" className={`px-2 py-1 ${figures.includes(i) ? 'text-right' : 'text-left'}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r, k) => (
            <tr key={k} className="border-t border-rule">
              {r.map((c, i) =>
                i === 0 ? (
                  <th key={i} scope="row" className="px-2 py-1 text-left font-normal">
                    {c}
                  </th>
                ) : (
                  <td key={i} className={`px-2 py-1 ${figures.includes(i) ? 'text-right' : ''}`}>
                    {c}
                  </td>
                ),
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
