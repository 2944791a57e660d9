import { useUnused } from '../../api/queries'
import { List } from '../../figures/List'
import { said } from '../../figures/Name'
import { title, figure, unitOf } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'

/** What a tenant holds and does not use: the amounts that could be asked back, and the lines they are made of. */
export function TenantUnused({ tenant }: { tenant: string }) {
  const { span } = useTime()
  const of = useUnused(span).data?.tenants.find((t) => t.tenant === tenant)
  if (!of) return null
  const amount = (resource: string, v: number) => {
    const unit = unitOf(resource, v)
    return `${figure(v, unit)} ${unit.name}`
  }
  const sums = [
    { resource: 'cpu', v: of.cpu_cores },
    { resource: 'memory', v: of.memory_bytes },
    { resource: 'gpu', v: of.gpus },
  ].filter((s) => s.v > 0)
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="unused-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="unused-title">Held and unused</h2>
        <span className="text-[12.5px] text-ink-2">
          it could give back{' '}
          {sums.map((s, i) => (
            <span key={s.resource}>
              {i > 0 && ', '}
              <b className="text-ink">{amount(s.resource, s.v)}</b> of {title(s.resource)}
            </span>
          ))}
        </span>
      </div>
      <List
        keep="unused"
        name={`unused-${tenant}`}
        rows={of.lines}
        rowKey={(l) => `${l.resource} ${l.why} ${l.id} ${l.host} ${l.sentence}`}
        columns={[
          { id: 'resource', head: 'Of', value: (l) => l.resource, cell: (l) => title(l.resource) },
          {
            id: 'unused_base_units',
            head: 'Unused',
            isFigure: true,
            className: 'whitespace-nowrap',
            value: (l) => l.unused,
            cell: (l) => amount(l.resource, l.unused),
          },
          {
            id: 'workload',
            head: 'What',
            value: (l) => (l.id > 0 ? l.name : 'declared CPUs'),
            cell: (l) => (l.id > 0 ? <WorkloadLink id={l.id} name={l.name} /> : 'declared CPUs'),
          },
          { id: 'host', head: 'Host', value: (l) => l.host },
          { id: 'why', head: 'Why', className: 'font-serif', value: (l) => l.sentence, cell: (l) => said(l.sentence) },
        ]}
      />
    </section>
  )
}
