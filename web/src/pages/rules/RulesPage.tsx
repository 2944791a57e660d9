import { useState } from 'react'
import { useRules, useTenants } from '../../api/queries'
import { Waiting } from '../../figures/Trouble'
import { RuleList } from './RuleList'
import { Suggestions } from './Suggestions'
import { TryRule, type Draft } from './TryRule'

/** To whom usage is accounted: the rules in order, what a rule would move before it is added, and what has none. */
export function RulesPage() {
  const rules = useRules()
  const tenants = useTenants()
  const [draft, setDraft] = useState<Draft>({ tenant: '', expression: '', position: '' })
  return (
    <>
      <h1 className="mb-3">Rules</h1>
      <div className="grid grid-cols-[3fr_2fr] items-start gap-4.5 max-xl:grid-cols-1">
        <div className="grid gap-4.5">
          <Suggestions onTry={(expression) => setDraft((d) => ({ ...d, expression }))} />
          <section className="sheet overflow-x-auto" aria-labelledby="rules-title">
            <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
              <h2 id="rules-title">In force</h2>
              <span className="text-[12.5px] text-ink-2">the first that matches a workload says whose it is</span>
            </div>
            {rules.data ? (
              <RuleList rules={rules.data.rules} version={rules.data.version} />
            ) : (
              <Waiting error={rules.error} what="The rules" />
            )}
          </section>
        </div>
        <TryRule draft={draft} onChange={(part) => setDraft((d) => ({ ...d, ...part }))} tenants={tenants.data ?? []} />
      </div>
    </>
  )
}
