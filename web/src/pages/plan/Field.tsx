import type { ReactNode } from 'react'

/** How what is typed or chosen in a plan looks. */
export const field = 'rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5'

/** One thing that a plan asks for, with its name above it. */
export function Field({ name, children }: { name: string; children: ReactNode }) {
  return (
    <label className="grid gap-0.5">
      <span className="text-[12.5px] text-ink-2">{name}</span>
      {children}
    </label>
  )
}
