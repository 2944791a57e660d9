import { startTransition, useEffect, useState, type ReactNode } from 'react'

/**
 * What is drawn, and asks for its figures, behind the first frame, so that a click is answered at once: a page that was
 * gone to, and of a long one what is further down.
 */
export function Later({ children }: { children: ReactNode }) {
  const [isShown, setShown] = useState(false)
  useEffect(() => {
    const frame = requestAnimationFrame(() => startTransition(() => setShown(true)))
    return () => cancelAnimationFrame(frame)
  }, [])
  return isShown ? children : null
}
