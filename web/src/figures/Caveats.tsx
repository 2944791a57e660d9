import type { Caveat } from '../api/client'

const named = 3 // hosts

/** What was missed in the span, so that shares lack it, and where it is instead. */
export function Caveats({ of }: { of?: Caveat[] }) {
  if (!of?.length) return null
  return (
    <ul className="mb-3 list-none p-0 font-serif text-[15px] text-ink-2" aria-label="What was missed">
      {of.map((c) => (
        <li key={c.what}>{sentenceOf(c)}</li>
      ))}
    </ul>
  )
}

export function sentenceOf(c: Caveat): string {
  return `${c.meaning.charAt(0).toUpperCase()}${c.meaning.slice(1)} (${hosts(c.hosts)}).`
}

function hosts(names: string[]): string {
  const list = names.length > named + 1 ? [...names.slice(0, named), `${names.length - named} more`] : names
  return new Intl.ListFormat('en-GB').format(list)
}
