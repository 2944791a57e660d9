import { useNavigate, useSearch } from '@tanstack/react-router'
import { useMemo, type ReactNode } from 'react'
import { spanOf, type TimeSearch } from './span'
import { Chosen, type Time } from './useTime'

/** Tells all that is in it which span was chosen: to leave hundreds of rows that each asked the address would be slow. */
export function TimeOfPage({ children }: { children: ReactNode }) {
  const { span, from, to, live } = useSearch({ strict: false }) as TimeSearch
  const navigate = useNavigate()
  const time = useMemo((): Time => {
    const search = { span, from, to, live }
    // What else the address says of the page stays as it is.
    const choose = (t: TimeSearch) =>
      void navigate({
        to: '.',
        search: ((was: TimeSearch) => ({
          ...was,
          span: undefined,
          from: undefined,
          to: undefined,
          live: undefined,
          ...t,
        })) as never,
      })
    return { span: spanOf(search), search, choose }
  }, [span, from, to, live, navigate])
  return <Chosen value={time}>{children}</Chosen>
}
