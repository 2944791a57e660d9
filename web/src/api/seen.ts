import { createContext, useEffect, useState } from 'react'

/** Whether what is drawn here is in view. What is not is neither asked for again nor drawn anew until it is. */
export const Seen = createContext(true)

/** How far beyond the window something counts as in view, so that it is there when it is scrolled to. */
const margin = '300px'

/** Watches whether an element is in view. */
export function useSeen(of: React.RefObject<HTMLElement | null>): boolean {
  const [isSeen, setSeen] = useState(true)
  useEffect(() => {
    if (!of.current || !('IntersectionObserver' in window)) return
    const watch = new IntersectionObserver((all) => setSeen(all.at(-1)!.isIntersecting), { rootMargin: margin })
    watch.observe(of.current)
    return () => watch.disconnect()
  }, [of])
  return isSeen
}
