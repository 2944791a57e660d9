import { ToggleGroup } from 'radix-ui'

/** One of a few ways to see something, each a word. */
export function Choice({
  label,
  value,
  set,
  all,
}: {
  label: string
  value: string
  set: (v: string) => void
  all: Record<string, string>
}) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      onValueChange={(v) => v && set(v)}
      aria-label={label}
      className="flex gap-3 text-[12.5px]"
    >
      {Object.entries(all).map(([v, words]) => (
        <ToggleGroup.Item
          key={v}
          value={v}
          className="cursor-pointer text-vine hover:underline data-[state=on]:font-semibold data-[state=on]:text-ink"
        >
          {words}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
