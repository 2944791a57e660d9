import type { AboutWorkload } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { meaningOf } from '../../figures/words'
import { measureText } from './measure'

/** What was counted of a workload beside its amounts. */
export function Figures({ figures, noSpace }: { figures: AboutWorkload['figures']; noSpace: string }) {
  if (figures.length === 0) return null
  return (
    <section className="sheet" aria-label="Counted beside">
      <h2 className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">Counted beside</h2>
      <dl className="grid gap-x-8 px-3.5 py-2.5 [grid-template-columns:repeat(auto-fill,minmax(17rem,1fr))]">
        {figures.map((f) => {
          const [name, text] = measureText(f)
          return (
            <div key={f.name} className="flex items-baseline gap-2 border-b border-rule py-1">
              <dt className="text-ink-2">{name}</dt>
              <dd className="ml-auto tabular-nums">{text}</dd>
              <dd className="w-16 text-[12.5px] text-ink-2">
                <Meaning meaning={meaningOf(f.source)}>{f.source}</Meaning>
              </dd>
            </div>
          )
        })}
      </dl>
      {noSpace !== '' && (
        <p className="px-3.5 pb-2.5 text-[12.5px] text-ink-2">Space of its files: not available, because {noSpace}.</p>
      )}
    </section>
  )
}
