import { Head } from '../../figures/Heads'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { answer, api, type Trial } from '../../api/client'
import { shown } from '../../figures/Name'
import { amountText, amountOf } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'

export type Draft = { tenant: string; expression: string; position: string }

/** Shows what a rule would move, from whom to whom and how much, before it is added. */
export function TryRule({
  draft,
  onChange,
  tenants,
}: {
  draft: Draft
  onChange: (part: Partial<Draft>) => void
  tenants: { name: string }[]
}) {
  const { span } = useTime()
  const queries = useQueryClient()
  const bodyOf = (d: Draft) => ({
    tenant: d.tenant,
    expression: d.expression,
    position: Number(d.position) || undefined,
  })
  const trial = useMutation({
    mutationFn: (d: Draft) =>
      answer(api.POST('/api/v1/rules/try', { params: { query: queryOf(span) }, body: bodyOf(d) })),
  })
  const add = useMutation({
    mutationFn: (d: Draft) => answer(api.POST('/api/v1/rules', { body: bodyOf(d) })),
    onSuccess: async () => {
      trial.reset()
      await queries.invalidateQueries()
    },
  })
  // What was tried is no longer what would be added once it is changed.
  const tried = trial.variables === draft ? trial : { data: undefined, error: null }
  const change = (part: Partial<Draft>) => {
    add.reset()
    onChange(part)
  }
  const field = 'w-full rounded-xs border border-rule-2 bg-sheet px-2 py-1'
  return (
    <section className="sheet" aria-labelledby="try-title">
      <div className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="try-title">Try a rule</h2>
      </div>
      <form
        className="grid gap-2.5 p-3.5"
        onSubmit={(e) => {
          e.preventDefault()
          trial.mutate(draft)
        }}
      >
        <label>
          <span className="text-[12.5px] text-ink-2">Tenant</span>
          <select className={field} required value={draft.tenant} onChange={(e) => change({ tenant: e.target.value })}>
            <option value="">choose …</option>
            {tenants.map((t) => (
              <option key={t.name}>{t.name}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="text-[12.5px] text-ink-2">When</span>
          <textarea
            className={`${field} font-mono text-[12.5px]`}
            rows={3}
            required
            spellCheck={false}
            placeholder="kind == 'job' && account == 'frost'"
            value={draft.expression}
            onChange={(e) => change({ expression: e.target.value })}
          />
        </label>
        <p className="text-[12.5px] text-ink-2">
          CEL over kind, name, owner, uid, groups, host, pools, path, labels, image, pod, pod_namespace, account,
          partition, unit and program.
        </p>
        <label className="flex items-baseline gap-2">
          <span className="text-[12.5px] text-ink-2">Position</span>
          <input
            className={`${field} w-20!`}
            inputMode="numeric"
            pattern="[1-9][0-9]*"
            placeholder="last"
            value={draft.position}
            onChange={(e) => change({ position: e.target.value })}
          />
        </label>
        <div className="flex gap-3">
          <button
            type="submit"
            className="rounded-xs border border-vine px-3 py-1 text-vine"
            disabled={trial.isPending}
          >
            Show what it would move
          </button>
          {tried.data && (
            <button
              type="button"
              className="rounded-xs bg-vine px-3 py-1 text-sheet"
              disabled={add.isPending}
              onClick={() => add.mutate(draft)}
            >
              Add it
            </button>
          )}
        </div>
        {(tried.error ?? add.error) && (
          <pre role="alert" className="overflow-x-auto font-mono text-[12.5px] text-wine">
            {(tried.error ?? add.error)!.message}
          </pre>
        )}
        {add.data && (
          <p role="status">
            Rule {add.data.position} added; {add.data.workloads_moved} workloads are {shown(add.data.tenant)}’s from now
            on.
          </p>
        )}
      </form>
      {tried.data && <Moves trial={tried.data} />}
    </section>
  )
}

const most = 50

function Moves({ trial }: { trial: Trial }) {
  const cpu = trial.moves.reduce((sum, m) => sum + (m.uses[0]?.amount ?? 0), 0)
  return (
    <div className="overflow-x-auto border-t border-rule-2">
      <p className="px-3.5 py-2" role="status">
        It matches <b>{trial.workloads_matched}</b> of {trial.workloads_seen} workloads of the span and would move{' '}
        <b>{trial.moves.length}</b>, with {amountText('cpu', cpu)}. Nothing is changed yet.
      </p>
      {trial.moves.length > 0 && (
        <table>
          <thead>
            <tr>
              <Head name="Workload" />
              <Head name="From" />
              <Head name="To" />
              <Head name="CPU time" className="num" />
              <Head name="Memory" className="num" />
            </tr>
          </thead>
          <tbody>
            {trial.moves.slice(0, most).map((m) => (
              <tr key={`${m.host}/${m.kind}/${m.workload}`}>
                <th scope="row">
                  {shown(m.workload)} <span className="text-[12.5px] text-ink-2">{m.host}</span>
                </th>
                <td>{shown(m.from)}</td>
                <td>{shown(m.to)}</td>
                <td className="num">{amountOf(m.uses[0])}</td>
                <td className="num">{amountOf(m.uses[1])}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {trial.moves.length > most && <p className="px-3.5 py-2 text-ink-2">{trial.moves.length - most} more.</p>}
    </div>
  )
}
