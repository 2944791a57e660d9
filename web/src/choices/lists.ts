import type { Choices } from '../api/client'

/** How narrow and how wide a column may be made, in pixels. */
const narrowest = 24
const widest = 1200

/** Other columns of a list. The usual ones need not be kept, and with them go the widths that were dragged. */
export const withColumns =
  (list: string, ids: string[], isUsual: boolean, widths = list) =>
  (kept: Choices): Partial<Choices> => {
    const columns = without(kept.columns, list)
    return isUsual ? { columns, widths: without(kept.widths, widths) } : { columns: { ...columns, [list]: ids } }
  }

/** Another width of one column. */
export const withWidth =
  (list: string, column: string, width: number) =>
  (kept: Choices): Partial<Choices> => ({
    widths: {
      ...kept.widths,
      [list]: { ...kept.widths?.[list], [column]: Math.min(widest, Math.max(narrowest, width)) },
    },
  })

/** Another colour of a tenant; the usual one where none is told. */
export const withColour =
  (tenant: string, colour?: string) =>
  (kept: Choices): Partial<Choices> => {
    const colours = without(kept.colours, tenant)
    return { colours: colour ? { ...colours, [tenant]: colour } : colours }
  }

const without = <T>(all: Record<string, T> | undefined, name: string): Record<string, T> =>
  Object.fromEntries(Object.entries(all ?? {}).filter(([n]) => n !== name))
