import { useEffective } from '../../api/queries'
import { List } from '../../figures/List'
import { said } from '../../figures/Name'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'

const kept: Record<string, string> = {
  affinity: 'affinity',
  cpuset: 'its cpuset',
  partition: 'a partition that is its own',
  both: 'affinity within its cpuset',
  nothing: 'nothing',
}

/** What keeps workloads on some of a host's CPUs now, declared or not. A page of the past does not show it. */
export function EffectiveSheet({ host }: { host: string }) {
  const { span } = useTime()
  const effective = useEffective(host, span.live).data
  if (!span.live || !effective || effective.workloads.length === 0) return null
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="effective-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="effective-title">Kept on some CPUs now</h2>
        <span className="text-[12.5px] text-ink-2">
          left for everybody: {effective.left_cpus || 'none'} of {effective.cpus}
        </span>
      </div>
      <List
        keep="effective-pins"
        name={`kept-on-cpus-of-${host}`}
        rows={effective.workloads}
        rowKey={(p) => String(p.id)}
        below={(p) =>
          p.notes.length > 0 &&
          p.notes.map((n) => (
            <p key={n} className="font-serif first-letter:uppercase">
              {said(n)}.
            </p>
          ))
        }
        columns={[
          {
            id: 'workload',
            head: 'Workload',
            isHead: true,
            value: (p) => p.workload,
            cell: (p) => (
              <>
                <WorkloadLink id={p.id} name={p.workload} /> <span className="text-[12.5px] text-ink-2">{p.kind}</span>
              </>
            ),
          },
          { id: 'tenant', head: 'Tenant', value: (p) => p.tenant },
          { id: 'cpus', head: 'May run on', value: (p) => p.cpus },
          { id: 'kept_by', head: 'Kept by', value: (p) => p.kept_by, cell: (p) => kept[p.kept_by] },
          { id: 'given_cpus', head: 'Given by its scheduler', value: (p) => p.given_cpus || null },
          {
            id: 'vcpus',
            head: 'Virtual CPUs',
            value: (p) => p.vcpus.map((v) => `${v.vcpu}: ${v.cpus || v.told}`).join('; ') || null,
          },
          { id: 'declared', head: 'Declared', value: (p) => p.declared || null },
        ]}
      />
    </section>
  )
}
