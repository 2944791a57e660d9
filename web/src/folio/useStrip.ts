import type { Plate } from '../api/client'
import { useChoices, useSetChoices } from '../api/queries'
import { usual } from '../choices/choices'
import type { Span } from '../time/span'

/** What a strip is of: of now, whatever the page shows; live where the page follows live frames. */
export const stripSpan: Span = { live: true, span: '15m', minutes: 15 }

/** Whether the strip is on the page, and putting it there or away. */
export function useStrip() {
  const chosen = useChoices(true).data ?? usual
  const set = useSetChoices()
  return {
    plates: chosen.strip ?? [],
    isShown: chosen.strip_at === 'page',
    show: (is: boolean) => set.mutate({ strip_at: is ? 'page' : 'away' }),
    keep: (strip: Plate[]) => set.mutate({ strip }),
    error: set.error,
  }
}
