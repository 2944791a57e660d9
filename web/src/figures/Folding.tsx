import { useEffect, useRef, useSyncExternalStore, type ReactNode } from 'react'

const narrow = '(max-width: 40rem)' // as in figures.css

function useNarrow(): boolean {
  return useSyncExternalStore(
    (told) => {
      if (typeof matchMedia !== 'function') return () => {}
      const media = matchMedia(narrow)
      media.addEventListener('change', told)
      return () => media.removeEventListener('change', told)
    },
    () => typeof matchMedia === 'function' && matchMedia(narrow).matches,
  )
}

/**
 * A table that folds in a narrow window: each row is its head, and below it a line for each figure with the head of its
 * column.
 */
export function Folding({ className, children }: { className?: string; children: ReactNode }) {
  const table = useRef<HTMLTableElement>(null)
  const isNarrow = useNarrow()
  useEffect(() => {
    if (!isNarrow || !table.current) return
    const heads = [...(table.current.tHead?.rows[0]?.cells ?? [])].map((c) => c.innerText.trim())
    for (const row of table.current.tBodies[0]?.rows ?? [])
      // What stands over several columns needs no head.
      if (row.cells.length === heads.length)
        [...row.cells].forEach((cell, i) => {
          if (cell.tagName === 'TD') cell.dataset.head = heads[i]
        })
  })
  return (
    <table ref={table} className={`folds ${className ?? ''}`}>
      {children}
    </table>
  )
}
