import { useNavigate, useSearch } from '@tanstack/react-router'
import { useEffect, useMemo, useState } from 'react'
import { spanOf, type Span, type TimeSearch } from './span'

/** The span of this page, and how to choose another. */
export function useTime(): { span: Span; search: TimeSearch; choose: (t: TimeSearch) => void } {
  const search = useSearch({ strict: false }) as TimeSearch
  const navigate = useNavigate()
  const { span, from, to, live } = search
  const chosen = useMemo(() => spanOf({ span, from, to, live }), [span, from, to, live])
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
  return { span: chosen, search: { span, from, to, live }, choose }
}

/** The time of day, moving on by seconds. */
export function useNow(everyMillis = 1000): Date {
  const [now, setNow] = useState(() => new Date())
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date()), everyMillis)
    return () => clearInterval(timer)
  }, [everyMillis])
  return now
}
