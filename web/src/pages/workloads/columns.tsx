import { choices } from '../../choices/choices'
import { withColumns } from '../../choices/lists'
import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { WorkloadLine } from '../../api/client'
import { shown } from '../../figures/Name'
import { resources } from '../../figures/register'
import type { Value } from '../../figures/listing'
import { moment } from '../../figures/text'
import { meanText, title, cpusOfWorkload } from '../../figures/units'
import type { TimeSearch } from '../../time/span'

/** One column of the list of workloads. */
export interface Column {
  /** Its name in exports, with its unit. */
  id: string
  head: string
  /** By what the service sorts by it; none where it cannot. */
  sort?: string
  isFigure?: boolean
  value: (w: WorkloadLine) => Value
  cell?: (w: WorkloadLine, search: TimeSearch) => ReactNode
}

const fact = (name: string, head: string): Column => ({ id: name, head, value: (w) => w.facts[name] ?? null })

/** All columns there are, but the workload itself, which is always the first. */
export function allColumns(): Column[] {
  return [
    { id: 'kind', head: 'Kind', sort: 'kind', value: (w) => w.kind },
    { id: 'tenant', head: 'Tenant', sort: 'tenant', value: (w) => w.tenant, cell: (w) => shown(w.tenant) },
    {
      id: 'owner',
      head: 'Owner',
      sort: 'owner',
      value: (w) => w.owner || null,
      cell: (w, search) =>
        w.owner ? (
          <Link to="/users/$user" params={{ user: w.owner }} search={search as never}>
            {shown(w.owner)}
          </Link>
        ) : (
          '–'
        ),
    },
    {
      id: 'host',
      head: 'Host',
      sort: 'host',
      value: (w) => w.host,
      cell: (w, search) => (
        <Link to="/hosts/$host" params={{ host: w.host }} search={search as never}>
          {w.host}
        </Link>
      ),
    },
    { id: 'state', head: 'State', value: (w) => w.state },
    { id: 'since', head: 'Since', value: (w) => w.since, cell: (w) => moment(w.since) },
    fact('origin', 'From where'),
    fact('terminal', 'Terminal'),
    fact('unit', 'Unit'),
    { ...fact('state', 'Its system says'), id: 'told_state' },
    fact('exit', 'Ended with'),
    fact('restarts', 'Begun anew'),
    fact('program', 'Runs'),
    fact('image', 'Image'),
    fact('pod', 'Pod'),
    fact('account', 'Account'),
    fact('partition', 'Partition'),
    ...resources().map((r): Column => {
      const had = (w: WorkloadLine) => w.uses.find((u) => u.resource === r)
      return {
        id: `${r}_mean`,
        head: title(r),
        isFigure: true,
        sort: r === 'cpu' ? 'amount' : undefined,
        value: (w) => had(w)?.mean ?? null,
        cell: (w) => {
          const u = had(w)
          return u?.mean === null || u?.mean === undefined ? (
            <span title={u?.reason}>–</span>
          ) : (
            meanText(r, u.mean, cpusOfWorkload(w))
          )
        },
      }
    }),
    { id: 'processes', head: 'Processes', isFigure: true, value: (w) => w.processes },
    { id: 'threads', head: 'Threads', isFigure: true, value: (w) => w.threads },
    {
      id: 'runnable_per_cpu',
      head: 'Runnable a CPU',
      isFigure: true,
      value: (w) => w.runnable_per_cpu,
      cell: (w) => (w.runnable_per_cpu === null ? '–' : w.runnable_per_cpu.toFixed(2)),
    },
  ]
}

/** The columns that a kind of workload begins with. */
const usual: Record<string, string[]> = {
  session: ['owner', 'host', 'origin', 'since', 'terminal', 'cpu_mean', 'memory_mean', 'processes', 'state'],
  service: ['host', 'told_state', 'since', 'restarts', 'cpu_mean', 'memory_mean', 'disk_mean', 'processes', 'state'],
  job: ['tenant', 'owner', 'host', 'account', 'partition', 'cpu_mean', 'memory_mean', 'gpu_mean', 'state'],
  container: ['tenant', 'host', 'image', 'pod', 'cpu_mean', 'memory_mean', 'disk_mean', 'network_mean', 'state'],
  '': ['tenant', 'owner', 'host', 'cpu_mean', 'memory_mean', 'disk_mean', 'network_mean', 'state'],
}

export const usualColumns = (kind: string): string[] => usual[kind] ?? usual['']!

/** The name under which the columns of a kind are kept among a person's choices. */
const place = (kind: string) => `workloads.${kind || 'all'}`

/** The columns chosen for a kind, in their order; the usual ones where nothing was chosen. */
export function chosenColumns(kind: string): string[] {
  const kept = choices().columns?.[place(kind)]
  return kept && kept.length > 0 ? kept : usualColumns(kind)
}

/** Other columns of a kind. */
export const withColumnsOf = (kind: string, ids: string[]) =>
  withColumns(place(kind), ids, ids.join() === usualColumns(kind).join(), 'workloads')
