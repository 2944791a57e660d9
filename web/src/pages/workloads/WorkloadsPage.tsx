import { useSetChoices } from '../../api/queries'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useEffect, useMemo, useState } from 'react'
import { useGroups } from '../../api/queries'
import { Waiting } from '../../figures/Trouble'
import { shown } from '../../figures/Name'
import { isTold } from '../../figures/register'
import { meanText, title } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { ExpressionInput } from '../../figures/ExpressionInput'
import { ColumnChoice } from '../../figures/ColumnChoice'
import { allColumns, chosenColumns, usualColumns, withColumnsOf, type Column } from './columns'
import { WorkloadTable } from './WorkloadTable'
import { groupings, whereOf, withinGroup } from './where'

export type WorkloadSearch = { kind?: string; by?: string; words?: string }

const kinds: Record<string, string> = {
  '': 'All',
  service: 'Services',
  session: 'Signed in',
  job: 'Jobs',
  container: 'Containers',
  vm: 'Machines',
  loose: 'Loose programs',
}

/** What of an address says which workloads are listed, and how. */
export function readWorkloads(search: Record<string, unknown>): WorkloadSearch {
  const text = (v: unknown, of?: Record<string, string>) =>
    typeof v === 'string' && v !== '' && (!of || v in of) ? v : undefined
  return { kind: text(search.kind, kinds), by: text(search.by, groupings), words: text(search.words) }
}

/** Every workload: of a kind, by words or an expression, in groups. Services and people signed in are two of its kinds. */
export function WorkloadsPage() {
  const { kind = '', by = '', words = '' } = useSearch({ strict: false }) as WorkloadSearch
  const navigate = useNavigate()
  const [typed, setTyped] = useState(words)
  const [sort, setSort] = useState('amount')
  const [chosen, setChosen] = useState(() => chosenColumns(kind))
  const keep = useSetChoices()
  const [of, setOf] = useState(kind)
  if (of !== kind) {
    setOf(kind)
    setChosen(chosenColumns(kind))
  }
  const go = (to: WorkloadSearch) =>
    void navigate({ to: '.', search: ((was: object) => ({ ...was, ...to })) as never, replace: true })
  useEffect(() => {
    const soon = setTimeout(() => {
      if (typed.trim() !== words) go({ words: typed.trim() || undefined })
    }, 300)
    return () => clearTimeout(soon)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- what is typed alone is waited for
  }, [typed])
  const all = useMemo(() => allColumns(), [])
  const columns = useMemo(() => chosen.flatMap((id) => all.find((c) => c.id === id) ?? []), [all, chosen])
  const where = whereOf(kind, words)
  const table = { columns, sort, setSort, withKind: kind === '' && !chosen.includes('kind') }
  return (
    <>
      <h1 className="mb-3">Workloads</h1>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <nav aria-label="Kinds" className="flex flex-wrap gap-3.5">
          {Object.entries(kinds).map(([k, name]) => (
            <button
              key={k}
              type="button"
              className="link aria-pressed:font-semibold aria-pressed:text-ink"
              aria-pressed={kind === k}
              onClick={() => go({ kind: k || undefined })}
            >
              {name}
            </button>
          ))}
        </nav>
        <ExpressionInput
          type="search"
          aria-label="Only those with these words, or that an expression matches"
          placeholder="words, or an expression: kind == 'job' && uid > 2000"
          className="w-96 max-w-full rounded-xs border border-rule-2 bg-sheet px-2 py-0.5"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <label className="text-[12.5px]">
          groups{' '}
          <select
            value={by}
            onChange={(e) => go({ by: e.target.value || undefined })}
            className="rounded-xs border border-rule-2 bg-sheet px-1 py-0.5"
          >
            {Object.entries(groupings).map(([g, name]) => (
              <option key={g} value={g}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <span className="ml-auto text-[12.5px]">
          <ColumnChoice
            usual={usualColumns(kind)}
            all={all}
            chosen={chosen}
            choose={(ids) => {
              setChosen(ids)
              keep.mutate(withColumnsOf(kind, ids))
            }}
          />
        </span>
      </div>
      <section className="sheet" aria-label="Workloads">
        {by ? <Groups by={by} where={where} {...table} /> : <WorkloadTable narrowed={{ where }} {...table} />}
      </section>
    </>
  )
}

type TableProps = { columns: Column[]; sort: string; setSort: (s: string) => void; withKind: boolean }

/** Groups of workloads with what they used together; one that is opened lists its own. */
function Groups({ by, where, ...table }: { by: string; where?: string } & TableProps) {
  const { span } = useTime()
  const groups = useGroups(span, by, where)
  const [open, setOpen] = useState<Set<string>>(new Set())
  if (!groups.data) return <Waiting error={groups.error} what="The groups" />
  if (groups.data.length === 0) return <p className="p-3.5 font-serif">No workload ran in this span.</p>
  const toggle = (name: string) =>
    setOpen((was) => {
      const now = new Set(was)
      if (!now.delete(name)) now.add(name)
      return now
    })
  return (
    <ul>
      {groups.data.map((g) => (
        <li key={g.name} className="border-b border-rule last:border-0">
          <button
            type="button"
            aria-expanded={open.has(g.name)}
            className="flex w-full cursor-pointer flex-wrap items-baseline gap-x-5 gap-y-1 px-3.5 py-2 text-left hover:bg-vine-soft"
            onClick={() => toggle(g.name)}
          >
            <b className="min-w-48 font-semibold">
              <span aria-hidden>{open.has(g.name) ? '▾' : '▸'}</span> {shown(g.name)}
            </b>
            <span className="min-w-28 text-ink-2">
              {g.workloads.toLocaleString('en')} workload{g.workloads === 1 ? '' : 's'}
            </span>
            {g.uses
              .filter((u) => isTold(u) && u.mean !== null)
              .map((u) => (
                <span key={u.resource} className="text-[12.5px]">
                  <span className="text-ink-2">{title(u.resource)}</span> {meanText(u.resource, u.mean!)}
                </span>
              ))}
          </button>
          {open.has(g.name) && (
            <div className="border-t border-rule">
              <WorkloadTable narrowed={withinGroup(by, g.name, where)} {...table} />
            </div>
          )}
        </li>
      ))}
    </ul>
  )
}
