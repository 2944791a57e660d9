import type { Ability, Caveat } from '../api/client'
import { Meaning } from './BalanceBar'
import { meaningOf } from './words'

type Known = {
  source: string
  reason?: string
  /** How its host counts this; of several kinds of workloads, or of one. */
  means?: Ability[]
  kind?: string
  /** What was missed in the span. */
  caveats?: Caveat[]
}

/** The word for how a figure was got, which explains itself: how finely it is told, what can be missed, and what was. */
export function Source({ source, reason, means, kind, caveats }: Known) {
  if (reason) return <Meaning meaning={`Not available: ${reason}.`}>{source}</Meaning>
  const whose = kind === 'loose' ? 'others' : 'cgroups'
  const own = (means ?? []).filter((a) => a.source === source && (kind === undefined || a.whose === whose))
  return (
    <Meaning
      meaning={
        <>
          <p>{meaningOf(source)}</p>
          {own.map((a) => (
            <p key={a.what} className="mt-1.5">
              {a.what[0]!.toUpperCase() + a.what.slice(1)}: {a.how}.{a.resolution && ` Told to ${a.resolution}.`}
              {a.misses && ` Can miss ${a.misses}.`}
            </p>
          ))}
          {caveats?.map((c) => (
            <p key={c.what} className="mt-1.5">
              In this span {c.meaning}.
            </p>
          ))}
        </>
      }
    >
      {source}
    </Meaning>
  )
}
