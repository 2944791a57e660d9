import { Head } from '../../figures/Heads'
import { useSuggestions } from '../../api/queries'
import { shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { amountOf } from '../../figures/units'
import { useTime } from '../../time/useTime'

/** What is accounted to nobody, largest first, alike together, each with a rule that would name it. */
export function Suggestions({ onTry }: { onTry: (expression: string) => void }) {
  const { span } = useTime()
  const all = useSuggestions(span)
  return (
    <section className="sheet overflow-x-auto" aria-labelledby="unassigned-title">
      <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="unassigned-title">Unassigned</h2>
        <span className="text-[12.5px] text-ink-2">what is alike together, with a rule for it</span>
      </div>
      {!all.data && <Waiting error={all.error} what="What is unassigned" />}
      {all.data?.length === 0 && <p className="p-3.5 font-serif">Nothing is unassigned in this span.</p>}
      {all.data && all.data.length > 0 && (
        <table>
          <thead>
            <tr>
              <Head name="What is alike" />
              <Head name="Workloads" className="num" />
              <Head name="CPU time" className="num" />
              <Head name="Rule" />
              <th scope="col">
                <span className="sr-only">Try</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {all.data.map((s) => (
              <tr key={s.expression}>
                <th scope="row">{shown(s.about)}</th>
                <td className="num">{s.workloads}</td>
                <td className="num">{amountOf(s.uses[0])}</td>
                <td>
                  <code className="font-mono text-[12.5px] break-words">{shown(s.expression)}</code>
                </td>
                <td>
                  <button
                    type="button"
                    className="link"
                    onClick={() => onTry(s.expression)}
                    aria-label={`Try the rule for ${s.about}`}
                  >
                    try
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}
