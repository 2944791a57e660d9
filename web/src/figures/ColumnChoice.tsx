import { Popover } from 'radix-ui'
import { moved } from './listing'

/** Which columns are shown, and in which order. */
export function ColumnChoice({
  all,
  usual,
  chosen,
  choose,
}: {
  all: { id: string; head: string }[]
  usual: string[]
  chosen: string[]
  choose: (ids: string[]) => void
}) {
  const heads = new Map(all.map((c) => [c.id, c.head]))
  const shown = chosen.filter((id) => heads.has(id))
  const step = (id: string, by: number, word: string, sign: string) => (
    <button
      type="button"
      className="link size-6 text-center"
      aria-label={`${heads.get(id)} ${word}`}
      onClick={() => choose(moved(shown, id, by))}
    >
      {sign}
    </button>
  )
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <button type="button" className="link">
          columns…
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={8}
          className="z-20 max-h-[70vh] w-72 overflow-y-auto rounded-[3px] border border-rule-2 bg-sheet p-3.5 shadow-md"
          aria-label="Columns"
        >
          <ol className="text-[13px]">
            {shown.map((id) => (
              <li key={id} className="flex items-baseline gap-1.5 py-0.5">
                <label className="flex-1">
                  <input
                    type="checkbox"
                    checked
                    onChange={() => choose(shown.filter((x) => x !== id))}
                    className="mr-1.5"
                  />
                  {heads.get(id)}
                </label>
                {step(id, -1, 'further left', '↑')}
                {step(id, 1, 'further right', '↓')}
              </li>
            ))}
            {all
              .filter((c) => !shown.includes(c.id))
              .map((c) => (
                <li key={c.id} className="py-0.5">
                  <label>
                    <input
                      type="checkbox"
                      checked={false}
                      onChange={() => choose([...shown, c.id])}
                      className="mr-1.5"
                    />
                    {c.head}
                  </label>
                </li>
              ))}
          </ol>
          <button type="button" className="link mt-2 text-[12.5px]" onClick={() => choose(usual)}>
            the usual columns
          </button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
