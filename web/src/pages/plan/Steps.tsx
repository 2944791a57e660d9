import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type Act, type PinPlan } from '../../api/client'
import { useIdentity } from '../../api/queries'
import { ActDialog } from '../../figures/act/ActDialog'
import { useMayAct } from '../../figures/act/ActButton'
import { isWell } from '../../figures/act/verbs'
import { said } from '../../figures/Name'

/** The steps of a plan in their order. One can be carried out once those before it are done, or may be left out. */
export function Steps({ plan }: { plan: PinPlan }) {
  const [done, setDone] = useState<Record<number, string>>({}) // what came of each step
  const [well, setWell] = useState<number[]>([])
  const [opened, setOpened] = useState<number | null>(null)
  const mayAct = useMayAct()
  const mayDeclare = useIdentity().data?.role === 'administrator'
  const queries = useQueryClient()
  const end = (i: number, text: string, isDone: boolean) => {
    setDone((d) => ({ ...d, [i]: text }))
    if (isDone) setWell((w) => [...w, i])
  }
  const declare = useMutation({
    mutationFn: () =>
      answer(
        api.PUT('/api/v1/pins', {
          body: {
            host: plan.host,
            cpus: plan.cpus,
            holder: plan.holder,
            holder_kind: plan.holder_kind as 'tenant',
            shared: !plan.exclusive,
            coming: true,
          },
        }),
      ),
    onSuccess: async (d) => {
      end(0, `recorded: CPUs ${d.cpus} of ${d.host}`, true)
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'pin-plan' })
    },
  })
  const isNext = (i: number) =>
    !well.includes(i) && plan.steps.slice(0, i).every((s, k) => well.includes(k) || (s.may_fail && k in done))
  const step = opened === null ? null : plan.steps[opened]
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="steps-title">
      <h2 id="steps-title" className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        Steps
      </h2>
      {plan.steps.length === 0 && <p className="px-3.5 py-2 font-serif">Nothing has to be done.</p>}
      <ol>
        {plan.steps.map((s, i) => (
          <li
            key={i}
            className="flex flex-wrap items-baseline gap-x-3 border-t border-rule px-3.5 py-1.5 first:border-0"
          >
            <span className="w-5 text-right text-ink-2">{i + 1}</span>
            <span className="min-w-60 flex-1">
              {said(s.sentence)}
              <span className="block text-[12.5px] text-ink-2">
                Checked: {s.check}. Undone: {said(s.undo)}.{s.may_fail && ' The plan goes on where this is refused.'}
              </span>
            </span>
            <span role="status" className={`text-[12.5px] ${i in done && !well.includes(i) ? 'text-wine' : ''}`}>
              {done[i]}
            </span>
            {(s.what === 'declare' ? mayDeclare : mayAct) && !well.includes(i) && (
              <button
                type="button"
                className="button"
                disabled={!isNext(i) || declare.isPending}
                title={isNext(i) ? undefined : 'the steps before this one come first'}
                onClick={() => (s.what === 'declare' ? declare.mutate() : setOpened(i))}
              >
                {s.what === 'declare' ? 'Record it' : 'Carry it out …'}
              </button>
            )}
          </li>
        ))}
      </ol>
      {declare.error && (
        <p role="alert" className="px-3.5 py-2 text-wine">
          {declare.error.message}
        </p>
      )}
      {step && opened !== null && (
        <ActDialog
          aim={{ form: 'workload', id: step.workload ?? 0, name: step.name, kind: '', host: plan.host }}
          verb="place"
          given={step.settings}
          onClose={() => setOpened(null)}
          onDone={(a: Act) => end(opened, `${a.state}${isWell(a) ? '' : `: ${a.detail}`}`, a.state === 'done')}
        />
      )}
    </section>
  )
}
