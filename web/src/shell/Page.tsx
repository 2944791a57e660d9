import { useRouterState, type RouterState } from '@tanstack/react-router'
import type { ReactNode } from 'react'

/** Whether another page is being gone to: the one that is shown is left. */
const isLeft = ({ isLoading, location, resolvedLocation: shown }: RouterState): boolean =>
  isLoading && shown !== undefined && shown.pathname !== location.pathname

/**
 * What the router waits for before it takes a page down: the next frame, with the page hidden, is on the screen. It does
 * not wait for long, for no frame is drawn of a window that nobody sees. */
export function leave({ state }: { state: RouterState }): Promise<void> | undefined {
  if (!isLeft(state)) return
  return new Promise((done) => {
    requestAnimationFrame(() => setTimeout(done))
    setTimeout(done, 300)
  })
}

/** The page. One that is left is hidden at once, and taken down behind that frame: with a long one that takes a while. */
export function Page({ children }: { children: ReactNode }) {
  return (
    <main id="main" hidden={useRouterState({ select: isLeft })} className="px-7 pt-4.5 pb-10 max-sm:px-3 print:p-0">
      {children}
    </main>
  )
}
