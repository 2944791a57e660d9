import { ToggleGroup } from 'radix-ui'
import type { ResourceName } from '../api/queries'
import { resourceTitle } from './units'

/** Chooses which resource a table is of. */
export function ResourceTabs({ value, onChange }: { value: ResourceName; onChange: (r: ResourceName) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(v) => v && onChange(v as ResourceName)}
      aria-label="Resource"
      className="ml-auto flex gap-4 text-[12.5px]"
    >
      {(Object.keys(resourceTitle) as ResourceName[]).map((r) => (
        <ToggleGroup.Item
          key={r}
          value={r}
          className="cursor-pointer text-vine hover:underline data-[state=on]:border-b-2 data-[state=on]:border-vine data-[state=on]:font-semibold data-[state=on]:text-ink"
        >
          {resourceTitle[r]}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
