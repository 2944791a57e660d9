import { Link } from '@tanstack/react-router'
import type { Shortage } from '../../api/client'
import { List } from '../../figures/List'
import { lasted } from '../../figures/quotas'
import { moment } from '../../figures/text'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'

/** CPUs that were short: who had more of them, and who less, than the weights of their cgroups would have given. */
export function ShortSheet({ short }: { short: Shortage[] }) {
  const { search } = useTime()
  if (short.length === 0) return null
  const rows = short.flatMap((s) => s.tenants.map((of) => ({ s, of })))
  type Row = (typeof rows)[number]
  const cores = (id: string, head: string, of: (r: Row) => number, isSigned = false) => ({
    id,
    head,
    isFigure: true,
    value: (r: Row) => of(r) / r.s.short_seconds,
    cell: (r: Row) => {
      const v = of(r) / r.s.short_seconds
      return `${isSigned && v > 0 ? '+' : ''}${v.toFixed(2)}`.replace('-', '−')
    },
  })
  const where = (s: Shortage) => (s.cpus ? `${s.host}, CPUs ${s.cpus}` : s.host)
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="short-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="short-title">Short of CPU</h2>
        <span className="text-[12.5px] text-ink-2">
          who had more of it, and who less, than the weights of their cgroups would have given, in cores
        </span>
      </div>
      <List
        keep="short"
        name="short-of-cpu"
        rows={rows}
        rowKey={(r) => `${where(r.s)} ${r.of.tenant}`}
        columns={[
          {
            id: 'host',
            head: 'Host',
            value: (r) => r.s.host,
            cell: (r) => (
              <Link to="/hosts/$host" params={{ host: r.s.host }} search={search}>
                {r.s.host}
              </Link>
            ),
          },
          { id: 'cpus', head: 'CPUs', value: (r) => r.s.cpus || 'all' },
          {
            id: 'tenant',
            head: 'Tenant',
            isHead: true,
            value: (r) => r.of.tenant,
            cell: (r) => (
              <Link to="/tenants/$tenant" params={{ tenant: r.of.tenant }} search={search}>
                {r.of.tenant}
              </Link>
            ),
          },
          cores('had_cores', 'Had', (r) => r.of.ran_cpu_seconds),
          cores('fair_cores', 'By weight', (r) => r.of.fair_cpu_seconds),
          cores('more_cores', 'More', (r) => r.of.more_cpu_seconds, true),
          cores('waited_cores', 'Waited', (r) => r.of.waited_seconds),
          {
            id: 'furthest',
            head: 'Furthest from its share',
            value: (r) => r.of.most?.name,
            cell: (r) => r.of.most && <WorkloadLink id={r.of.most.id} name={r.of.most.name} />,
          },
        ]}
      />
      {short.map((s) => (
        <p key={where(s)} className="px-3.5 py-1.5 font-serif text-[12.5px]">
          {where(s)}: in {lasted(s.short_seconds / 60)} between {moment(s.from)} and {moment(s.to)} three quarters of it
          or more was used, and threads waited. The busiest {lasted(s.looked_seconds / 60)} were looked into.
        </p>
      ))}
    </section>
  )
}
