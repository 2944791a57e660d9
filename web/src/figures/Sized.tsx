import type { ReactNode } from 'react'
import { useSetChoices } from '../api/queries'
import { choices } from '../choices/choices'
import { withWidth } from '../choices/lists'

/** The head of a column, whose width is dragged, and kept with whoever dragged it. */
export function Sized({ keep, column, children }: { keep?: string; column: string; children: ReactNode }) {
  if (!keep) return children
  return (
    <Kept keep={keep} column={column}>
      {children}
    </Kept>
  )
}

function Kept({ keep, column, children }: { keep: string; column: string; children: ReactNode }) {
  const keeping = useSetChoices()
  const width = choices().widths?.[keep]?.[column]
  return (
    <div
      className="overflow-hidden [th:hover>&]:resize-x"
      style={width ? { width } : undefined}
      onPointerUp={(e) => {
        const dragged = Math.round(parseFloat(e.currentTarget.style.width)) // the browser writes it while it is dragged
        if (!dragged || dragged === width) return
        keeping.mutate(withWidth(keep, column, dragged))
      }}
    >
      {children}
    </div>
  )
}
