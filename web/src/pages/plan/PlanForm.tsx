import { useState, type FormEvent } from 'react'
import { useAllHosts } from '../../api/queries'
import type { PlanSearch } from './search'
import { Field, field } from './Field'
import { HolderFields } from './HolderFields'

/** For whom CPUs are planned, how many and where. */
export function PlanForm({ of, onPlan }: { of: PlanSearch; onPlan: (p: PlanSearch) => void }) {
  const hosts = useAllHosts().data ?? []
  const pools = [...new Set(hosts.flatMap((h) => h.pools))].sort()
  const [draft, setDraft] = useState<PlanSearch>(of)
  const set = (p: Partial<PlanSearch>) => setDraft((d) => ({ ...d, ...p }))
  const number = (v: string) => (v === '' ? undefined : Math.trunc(Number(v)))
  const submit = (e: FormEvent) => {
    e.preventDefault()
    onPlan(draft)
  }
  const where = draft.host ? `host ${draft.host}` : draft.pool ? `pool ${draft.pool}` : ''
  return (
    <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
      <Field name="CPUs wanted">
        <input
          className={`${field} w-20`}
          type="number"
          min={1}
          max={8192}
          required
          value={draft.cpus ?? ''}
          onChange={(e) => set({ cpus: number(e.target.value) })}
        />
      </Field>
      <HolderFields of={draft} onChange={set} />
      <Field name="on">
        <select
          className={field}
          value={where}
          onChange={(e) => {
            const [what, ...name] = e.target.value.split(' ')
            set({
              host: what === 'host' ? name.join(' ') : undefined,
              pool: what === 'pool' ? name.join(' ') : undefined,
            })
          }}
        >
          <option value="">the best of all hosts</option>
          {pools.map((p) => (
            <option key={p} value={`pool ${p}`}>
              the best of pool {p}
            </option>
          ))}
          {hosts.map((h) => (
            <option key={h.name} value={`host ${h.name}`}>
              {h.name}
            </option>
          ))}
        </select>
      </Field>
      <Field name="left for everybody, at least">
        <input
          className={`${field} w-20`}
          type="number"
          min={1}
          max={8192}
          value={draft.keep ?? 1}
          onChange={(e) => set({ keep: number(e.target.value) })}
        />
      </Field>
      <label className="flex items-baseline gap-1.5 pb-1">
        <input
          type="checkbox"
          checked={draft.shared ?? false}
          onChange={(e) => set({ shared: e.target.checked || undefined })}
        />
        others may run there too
      </label>
      <button type="submit" className="button button-vine">
        Plan
      </button>
    </form>
  )
}
