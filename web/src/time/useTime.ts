import { createContext, useContext, useEffect, useState } from 'react'
import type { Span, TimeSearch } from './span'

export type Time = { span: Span; search: TimeSearch; choose: (t: TimeSearch) => void }

/** What TimeOfPage tells. */
export const Chosen = createContext<Time | null>(null)

/** The span of this page, and how to choose another. */
export const useTime = (): Time => useContext(Chosen)!

/** The time of day, moving on by seconds. */
export function useNow(everyMillis = 1000): Date {
  const [now, setNow] = useState(() => new Date())
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date()), everyMillis)
    return () => clearInterval(timer)
  }, [everyMillis])
  return now
}
