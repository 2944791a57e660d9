/** What is shown in place of figures while they are asked for, or when they cannot be had. */
export function Waiting({ error, what }: { error: Error | null; what: string }) {
  if (error)
    return (
      <p role="alert" className="p-3.5 text-wine">
        {what} cannot be shown: {error.message}
      </p>
    )
  return <p className="p-3.5 text-ink-2">Adding up {inSentence(what)} …</p>
}

/** A name in the middle of a sentence: what is an abbreviation keeps its capitals. */
function inSentence(name: string): string {
  return /^.[A-Z]/.test(name) ? name : name[0]!.toLowerCase() + name.slice(1)
}
