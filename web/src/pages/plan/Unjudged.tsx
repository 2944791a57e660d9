/** What could not be judged of hosts, and why. */
export function Unjudged({ notes }: { notes: string[] }) {
  return notes.map((n) => (
    <p key={n} className="max-w-200 px-3.5 pb-2 text-ink-2">
      {n}
    </p>
  ))
}
