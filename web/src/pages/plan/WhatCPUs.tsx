import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState, type FormEvent } from 'react'
import { answer, api, type Pinned, type Weighed } from '../../api/client'
import { useAllHosts } from '../../api/queries'
import { List } from '../../figures/List'
import { said, shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { written } from '../../figures/number'
import { meanText } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { Field, field } from './Field'
import { HolderFields } from './HolderFields'
import type { PlanSearch } from './search'

const tenths = (v: number) => written(v, { minimumFractionDigits: 1, maximumFractionDigits: 1 })

/** What other CPUs for a holder would have done on a host over the span. */
export function WhatPins() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const hosts = useAllHosts().data ?? []
  const [draft, setDraft] = useState<PlanSearch>({
    holder: asked.holder,
    kind: asked.kind,
    host: asked.host,
    list: asked.list,
    shared: asked.shared,
  })
  const set = (p: Partial<PlanSearch>) => setDraft((d) => ({ ...d, ...p }))
  const query =
    asked.holder && asked.host && asked.list
      ? {
          holder: asked.holder,
          holder_kind: asked.kind ?? ('tenant' as const),
          host: asked.host,
          cpus: asked.list,
          shared: asked.shared,
        }
      : null
  const played = useQuery({
    queryKey: ['what-pins', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/pins', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({ to: '/plan', search: { ...time, view: 'pins', ...draft } })
  }
  return (
    <>
      <section className="sheet mb-4.5" aria-label="What is played again">
        <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
          <HolderFields of={draft} onChange={set} />
          <Field name="on host">
            <select className={field} required value={draft.host ?? ''} onChange={(e) => set({ host: e.target.value })}>
              <option value="" disabled>
                choose …
              </option>
              {hosts.map((h) => (
                <option key={h.name}>{h.name}</option>
              ))}
            </select>
          </Field>
          <Field name="CPUs, such as 2-4,7">
            <input
              className={`${field} w-32`}
              required
              pattern="[0-9]+(-[0-9]+)?(,[0-9]+(-[0-9]+)?)*"
              value={draft.list ?? ''}
              onChange={(e) => set({ list: e.target.value })}
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
            Play it again
          </button>
        </form>
      </section>
      {query && !played.data && <Waiting error={played.error} what="What would have been" />}
      {played.data && <PinnedSheet x={played.data} />}
    </>
  )
}

function PinnedSheet({ x }: { x: Pinned }) {
  const sides = [{ who: x.holder, ...x.theirs }, ...(x.others ? [{ who: 'all others', ...x.others }] : [])]
  return (
    <section className="sheet px-3.5 py-3" aria-label="What would have been">
      <p className="mb-2.5 max-w-200 font-serif text-[15px]" role="status">
        {said(x.sentence)}
      </p>
      {x.steps > 0 && (
        <List
          keep="pinned-sides"
          name="what-would-fit"
          rows={sides}
          rowKey={(s) => s.who}
          columns={[
            { id: 'who', head: 'Who', isHead: true, value: (s) => s.who },
            { id: 'cpus', head: 'CPUs', isFigure: true, value: (s) => s.cpus },
            {
              id: 'mean',
              head: 'Mean',
              isFigure: true,
              value: (s) => s.mean_cores,
              cell: (s) => meanText('cpu', s.mean_cores),
            },
            {
              id: 'highest',
              head: 'Highest',
              isFigure: true,
              value: (s) => s.highest_cores,
              cell: (s) => meanText('cpu', s.highest_cores),
            },
            {
              id: 'over',
              head: 'Steps over',
              isFigure: true,
              value: (s) => s.steps_over,
              cell: (s) => `${s.steps_over} of ${x.steps}`,
            },
            {
              id: 'touched',
              head: 'Steps touched',
              isFigure: true,
              value: (s) => s.steps_touched,
              cell: (s) => `${s.steps_touched} of ${x.steps}`,
            },
          ]}
        />
      )}
      {x.movers.length > 0 && (
        <>
          <h2 className="mt-3.5 mb-1">Who would have had to run elsewhere</h2>
          <List
            keep="pinned-movers"
            name="who-would-move"
            rows={x.movers}
            rowKey={(m) => String(m.id)}
            columns={[
              {
                id: 'workload',
                head: 'Workload',
                isHead: true,
                value: (m) => m.name,
                cell: (m) => <WorkloadLink id={m.id} name={m.name} />,
              },
              { id: 'tenant', head: 'Tenant', value: (m) => m.tenant, cell: (m) => shown(m.tenant) },
              {
                id: 'cpu_seconds',
                head: 'CPU-seconds',
                isFigure: true,
                value: (m) => m.cpu_seconds,
                cell: (m) => tenths(m.cpu_seconds),
              },
            ]}
          />
        </>
      )}
    </section>
  )
}

/** What another weight of a workload's cgroup would have done over the span. */
export function WhatWeight() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const [draft, setDraft] = useState({ workload: asked.workload ?? '', weight: asked.limit ?? '' })
  const query = asked.workload && asked.limit ? { workload: asked.workload, weight: Number(asked.limit) } : null
  const played = useQuery({
    queryKey: ['what-weight', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/weight', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({
      to: '/plan',
      search: { ...time, view: 'weight', workload: Number(draft.workload), limit: String(draft.weight) },
    })
  }
  return (
    <>
      <section className="sheet mb-4.5" aria-label="What is played again">
        <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
          <Field name="workload, by its number">
            <input
              className={`${field} w-32`}
              type="number"
              min={1}
              required
              value={draft.workload}
              onChange={(e) => setDraft({ ...draft, workload: e.target.value })}
            />
          </Field>
          <Field name="weight (100 is usual)">
            <input
              className={`${field} w-28`}
              type="number"
              min={1}
              max={10000}
              required
              value={draft.weight}
              onChange={(e) => setDraft({ ...draft, weight: e.target.value })}
            />
          </Field>
          <button type="submit" className="button button-vine">
            Play it again
          </button>
        </form>
      </section>
      {query && !played.data && <Waiting error={played.error} what="What would have been" />}
      {played.data && <WeighedSheet x={played.data} />}
    </>
  )
}

function WeighedSheet({ x }: { x: Weighed }) {
  const rows = [{ ...x.workload, fair: x.fair_cpu_seconds, then: x.then_cpu_seconds }].concat(
    x.others.map((o) => ({ ...o, fair: o.fair_cpu_seconds, then: o.then_cpu_seconds })),
  )
  return (
    <section className="sheet px-3.5 py-3" aria-label="What would have been">
      <p className="mb-2">
        <WorkloadLink id={x.workload.id} name={x.workload.name} />{' '}
        <span className="text-ink-2">{x.workload.tenant}</span>
      </p>
      <p className="mb-2.5 max-w-200 font-serif text-[15px]" role="status">
        {said(x.sentence)}
      </p>
      {x.steps_short > 0 && (
        <>
          <p className="mb-1 text-ink-2">
            CPU-seconds in the {x.steps_short} of {x.steps} steps in which its CPUs were short:
          </p>
          <List
            keep="weighed"
            name="by-weight"
            rows={rows}
            rowKey={(r) => String(r.id)}
            columns={[
              {
                id: 'workload',
                head: 'Workload',
                isHead: true,
                value: (r) => r.name,
                cell: (r) => <WorkloadLink id={r.id} name={r.name} />,
              },
              { id: 'tenant', head: 'Tenant', value: (r) => r.tenant, cell: (r) => shown(r.tenant) },
              { id: 'fair', head: 'By weights now', isFigure: true, value: (r) => r.fair, cell: (r) => tenths(r.fair) },
              { id: 'then', head: 'Then', isFigure: true, value: (r) => r.then, cell: (r) => tenths(r.then) },
              {
                id: 'change',
                head: 'Change',
                isFigure: true,
                value: (r) => r.then - r.fair,
                cell: (r) => (r.then > r.fair ? '+' : '') + tenths(r.then - r.fair),
              },
            ]}
          />
          <p className="mt-2 text-ink-2">
            It had {tenths(x.ran_cpu_seconds)} CPU-seconds in them, and its threads waited for{' '}
            {tenths(x.waited_seconds)} seconds.
            {x.untold > 0 &&
              ` Of others beside it, ${x.untold} do not tell for how long they waited, and count as content.`}
          </p>
        </>
      )}
    </section>
  )
}
