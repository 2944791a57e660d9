import type { ReactNode } from 'react'
import { useSetChoices } from '../api/queries'
import { choices } from '../choices/choices'

/** How narrow and how wide a column may be made, in pixels. */
const narrowest = 24
const widest = 1200

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
        keeping.mutate({ widths: withWidth(keep, column, dragged) })
      }}
    >
      {children}
    </div>
  )
}

/** All widths that are kept, with another of one column. */
export function withWidth(keep: string, column: string, width: number): Record<string, Record<string, number>> {
  const all = choices().widths ?? {}
  return { ...all, [keep]: { ...all[keep], [column]: Math.min(widest, Math.max(narrowest, width)) } }
}

/** All widths that are kept, without those of one table. */
export function withoutWidths(keep: string): Record<string, Record<string, number>> {
  return Object.fromEntries(Object.entries(choices().widths ?? {}).filter(([table]) => table !== keep))
}
