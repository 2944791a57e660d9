import { useNavigate, useSearch } from '@tanstack/react-router'
import { useEffect, useMemo, useState } from 'react'
import { spanOf, type Span, type TimeSearch } from './span'

/** The span of this page, and how to choose another. */
export function useTime(): { span: Span; search: TimeSearch; choose: (t: TimeSearch) => void } {
  const search = useSearch({ strict: false }) as TimeSearch
  const navigate = useNavigate()
  const { span, from, to, live } = search
  const chosen = useMemo(() => spanOf({ span, from, to, live }), [span, from, to, live])
  return { span: chosen, search, choose: (t) => void navigate({ to: '.', search: t as never }) }
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
