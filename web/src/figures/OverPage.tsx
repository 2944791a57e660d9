import { Dialog } from 'radix-ui'
import type { ReactNode } from 'react'

/** A sheet that lies over the page until it is closed: its title, what it is about, and its content. */
export function OverPage({
  title,
  about,
  width,
  top = '8vh',
  children,
}: {
  title: ReactNode
  about?: ReactNode
  /** At most, as CSS has it. */
  width: string
  top?: string
  children: ReactNode
}) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-10 bg-veil" />
      <Dialog.Content
        aria-describedby={undefined}
        className="fixed left-1/2 z-20 flex -translate-x-1/2 flex-col rounded-[3px] border border-rule-2 bg-sheet"
        style={{ top, maxHeight: `calc(100vh - 2 * ${top})`, width: `min(${width}, 95vw)` }}
      >
        <div className="border-b border-rule-2 px-4 pt-3 pb-2">
          <Dialog.Title asChild>
            <h2>{title}</h2>
          </Dialog.Title>
          {about && <p className="text-[12.5px] text-ink-2">{about}</p>}
        </div>
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  )
}
