type Props = { what: string; shown: number; inAll: number; more: () => void }

/** How many of a long list are shown, and the way to more of them. */
export function More({ what, shown, inAll, more }: Props) {
  if (shown >= inAll) return null
  return (
    <p className="p-3.5">
      <button
        type="button"
        className="cursor-pointer rounded-[3px] border border-rule-2 bg-paper px-3 py-1"
        onClick={more}
      >
        Show more {what}
      </button>{' '}
      <span className="text-ink-2">
        {shown.toLocaleString('en')} of {inAll.toLocaleString('en')} are shown.
      </span>
    </p>
  )
}
