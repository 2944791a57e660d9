import { startTransition, useEffect, useState, type ReactNode } from 'react'

/**
 * What is drawn, and asks for its figures, behind the first frame, so that a click is answered at once: what is further
 * down a long page, or all of it but for what is shown first.
 */
export function Later({ first = null, children }: { first?: ReactNode; children: ReactNode }) {
  const [isShown, setShown] = useState(false)
  useEffect(() => {
    const frame = requestAnimationFrame(() => startTransition(() => setShown(true)))
    return () => cancelAnimationFrame(frame)
  }, [])
  return isShown ? children : first
}
