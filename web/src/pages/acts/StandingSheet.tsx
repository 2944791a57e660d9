import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { answer, api, type StandingRule, type StandingToAdd, type StandingTrial } from '../../api/client'
import { useIdentity } from '../../api/queries'
import { ExpressionInput } from '../../figures/ExpressionInput'
import { entry, resources } from '../../figures/register'
import { List, type Column } from '../../figures/List'
import { shown } from '../../figures/Name'
import { moment } from '../../figures/text'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { ruleOf, settingsWords, stateOf, timesWords, type Draft } from './standing'

/** Rules that have an act done by themselves: what they wait for, whether they are on, and what they would have done. */
export function StandingSheet() {
  const rules = useQuery({
    queryKey: ['standing'],
    queryFn: () => answer(api.GET('/api/v1/standing')),
    refetchInterval: 30_000,
  })
  const isAdministrator = useIdentity().data?.role === 'administrator'
  const [isAdding, setAdding] = useState(false)
  if (!rules.data) return null
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="standing-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="standing-title">Standing rules</h2>
        <span className="text-[12.5px] text-ink-2">acts done by themselves, when a condition has held for a time</span>
        <button type="button" className="link ml-auto" aria-expanded={isAdding} onClick={() => setAdding(!isAdding)}>
          try or add
        </button>
      </div>
      {isAdding && <Adding mayAdd={isAdministrator} onAdded={() => setAdding(false)} />}
      {rules.data.length === 0 ? (
        <p className="p-3.5 font-serif">
          There are none. A rule is first tried on what was, and is off when it is added.
        </p>
      ) : (
        <Rules rules={rules.data} mayChange={isAdministrator} />
      )}
    </section>
  )
}

function Rules({ rules, mayChange }: { rules: StandingRule[]; mayChange: boolean }) {
  const queries = useQueryClient()
  const change = useMutation({
    mutationFn: (run: () => Promise<unknown>) => run(),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['standing'] }),
  })
  const path = (name: string) => ({ params: { path: { name } } })
  const columns: Column<StandingRule>[] = [
    { id: 'name', head: 'Rule', value: (r) => r.name, cell: (r) => shown(r.name), isHead: true },
    {
      id: 'state',
      head: 'Is',
      value: stateOf,
      cell: (r) => (
        <>
          {stateOf(r)}
          {r.stopped && <small className="block text-[12.5px] text-wine">{r.stopped}</small>}
        </>
      ),
    },
    { id: 'act', head: 'Does', value: (r) => `${r.verb} ${settingsWords(r.settings)}`.trim() },
    {
      id: 'condition',
      head: 'When',
      value: (r) => r.condition,
      cell: (r) => (
        <>
          <code className="font-mono text-[12.5px]">{shown(r.condition)}</code>
          {r.except && (
            <small className="block text-[12.5px] text-ink-2">
              except <code className="font-mono">{shown(r.except)}</code>
            </small>
          )}
        </>
      ),
    },
    { id: 'for', head: 'For', value: (r) => r.for },
    { id: 'per_hour', head: 'An hour', value: (r) => r.per_hour, isFigure: true },
    { id: 'hours', head: 'Hours', value: (r) => `${r.hours ?? ''} ${r.zone ?? ''}`.trim() || 'any' },
  ]
  return (
    <>
      {change.error && (
        <p role="alert" className="px-3.5 py-2 text-wine">
          {change.error.message}
        </p>
      )}
      <List
        keep="standing-rules"
        name="standing"
        rows={rules}
        columns={columns}
        rowKey={(r) => r.name}
        acts={
          mayChange
            ? (r) => (
                <span className="flex gap-2">
                  <button
                    type="button"
                    className="button"
                    aria-label={`Switch ${r.is_on ? 'off' : 'on'} ${r.name}`}
                    disabled={change.isPending}
                    onClick={() =>
                      change.mutate(() =>
                        answer(api.PUT('/api/v1/standing/{name}', { ...path(r.name), body: { is_on: !r.is_on } })),
                      )
                    }
                  >
                    Switch {r.is_on ? 'off' : 'on'}
                  </button>
                  <button
                    type="button"
                    className="button"
                    aria-label={`Remove ${r.name}`}
                    disabled={change.isPending}
                    onClick={() => change.mutate(() => answer(api.DELETE('/api/v1/standing/{name}', path(r.name))))}
                  >
                    Remove
                  </button>
                </span>
              )
            : undefined
        }
      />
    </>
  )
}

const fields: { id: keyof Draft; label: string; placeholder: string; wide?: boolean }[] = [
  { id: 'condition', label: 'when', placeholder: "kind == 'loose' && cpu_cores_mean > 4.0", wide: true },
  { id: 'except', label: 'except', placeholder: "owner == 'root'", wide: true },
  { id: 'for', label: 'for', placeholder: '10m' },
  { id: 'verb', label: 'does', placeholder: 'note' },
  { id: 'settings', label: 'settings', placeholder: 'nice=15' },
  { id: 'perHour', label: 'at most an hour', placeholder: '3' },
  { id: 'hours', label: 'hours', placeholder: '08:00-18:00' },
  { id: 'name', label: 'name', placeholder: 'loud-programs' },
]

const field = 'w-full rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5'

/** The figures that a condition may ask about, beside what is known of workloads. */
const figuresAsked = () => resources().map((r) => ({ name: entry(r).mean_field, type: 'number' }))

/** A rule that is tried on the last week, and added once it does what it should. */
function Adding({ mayAdd, onAdded }: { mayAdd: boolean; onAdded: () => void }) {
  const queries = useQueryClient()
  const [draft, setDraft] = useState<Draft>({
    name: '',
    condition: '',
    except: '',
    for: '10m',
    verb: 'note',
    settings: '',
    perHour: '3',
    hours: '',
  })
  const trial = useMutation({
    mutationFn: (body: StandingToAdd) =>
      answer(api.POST('/api/v1/standing/try', { params: { query: { span: '7d' } }, body })),
  })
  const add = useMutation({
    mutationFn: (body: StandingToAdd) => answer(api.POST('/api/v1/standing', { body })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['standing'] })
      onAdded()
    },
  })
  const error = trial.error ?? add.error
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add.reset()
    trial.mutate(ruleOf({ ...draft, name: draft.name || 'tried' }))
  }
  return (
    <form onSubmit={submit} className="grid gap-2.5 border-b border-rule px-3.5 py-3">
      <div className="grid grid-cols-[repeat(auto-fill,minmax(13rem,1fr))] gap-x-4 gap-y-2">
        {fields.map((f) => (
          <label key={f.id} className={f.wide ? 'col-span-full' : ''}>
            <span className="block text-[12.5px] font-semibold text-ink-2">{f.label}</span>
            {f.wide ? (
              <ExpressionInput
                className={field}
                placeholder={f.placeholder}
                value={draft[f.id]}
                more={f.id === 'condition' ? figuresAsked() : []}
                onChange={(e) => setDraft({ ...draft, [f.id]: e.target.value })}
              />
            ) : (
              <input
                className={field}
                placeholder={f.placeholder}
                value={draft[f.id]}
                onChange={(e) => setDraft({ ...draft, [f.id]: e.target.value })}
              />
            )}
          </label>
        ))}
      </div>
      <div className="flex flex-wrap items-baseline gap-3">
        <button type="submit" className="button button-vine" disabled={trial.isPending}>
          Try it on the last week
        </button>
        {mayAdd && trial.data && (
          <button
            type="button"
            className="button"
            disabled={add.isPending || draft.name === ''}
            onClick={() => add.mutate(ruleOf(draft))}
          >
            Add it, switched off
          </button>
        )}
        {trial.isPending && <span className="text-ink-2">Going through the week …</span>}
      </div>
      {error && (
        <p role="alert" className="whitespace-pre-wrap text-wine">
          {error.message}
        </p>
      )}
      {trial.data && !error && <Trial of={trial.data} />}
    </form>
  )
}

function Trial({ of: t }: { of: StandingTrial }) {
  const columns: Column<StandingTrial['firings'][number]>[] = [
    { id: 'at', head: 'When', value: (f) => f.at, cell: (f) => moment(f.at) },
    {
      id: 'workload',
      head: 'Workload',
      value: (f) => f.name,
      cell: (f) => (
        <>
          <WorkloadLink id={f.workload_id} name={f.name} /> <span className="text-[12.5px] text-ink-2">{f.kind}</span>
        </>
      ),
      isHead: true,
    },
    { id: 'owner', head: 'Owner', value: (f) => f.owner },
    { id: 'tenant', head: 'Tenant', value: (f) => f.tenant },
    { id: 'host', head: 'Host', value: (f) => f.host },
  ]
  return (
    <div role="status" className="grid gap-2">
      <p>
        In the last week it would have acted {timesWords(t.firings.length)}.
        {t.stops && (
          <span className="text-wine"> At {moment(t.stops.at)} it would have stopped itself: too many in an hour.</span>
        )}
      </p>
      {t.firings.length > 0 && (
        <List name="tried" rows={t.firings} columns={columns} rowKey={(f) => `${f.at} ${f.workload_id}`} />
      )}
    </div>
  )
}
