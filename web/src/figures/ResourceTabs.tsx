import { resources } from './register'
import { ToggleGroup } from 'radix-ui'

import { title } from './units'

/** Chooses which resource a table is of. */
export function ResourceTabs({ value, onChange }: { value: string; onChange: (r: string) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(v) => v && onChange(v)}
      aria-label="Resource"
      className="ml-auto flex gap-4 text-[12.5px]"
    >
      {resources().map((r) => (
        <ToggleGroup.Item
          key={r}
          value={r}
          className="cursor-pointer text-vine hover:underline data-[state=on]:border-b-2 data-[state=on]:border-vine data-[state=on]:font-semibold data-[state=on]:text-ink"
        >
          {title(r)}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
