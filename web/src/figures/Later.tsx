import { startTransition, useEffect, useState, type ReactNode } from 'react'

/** What is further down a long page: it is drawn behind the first frame, so that a click is answered at once. */
export function Later({ children }: { children: ReactNode }) {
  const [isShown, setShown] = useState(false)
  useEffect(() => {
    const frame = requestAnimationFrame(() => startTransition(() => setShown(true)))
    return () => cancelAnimationFrame(frame)
  }, [])
  return isShown ? children : null
}
