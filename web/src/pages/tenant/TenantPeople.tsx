import { useLedger } from '../../api/queries'
import { List } from '../../figures/List'
import { Owner } from '../../figures/ShareTable'
import { figure, title, unitOf, cpusOf } from '../../figures/units'
import { useTime } from '../../time/useTime'

/** For whom a tenant's workloads ran: what each person had of a resource. */
export function TenantPeople({ tenant, of }: { tenant: string; of: string }) {
  const { span } = useTime()
  const ledger = useLedger(span, { of, by: 'user', tenant, first: 1000 }).data
  if (!ledger || ledger.shares.length === 0) return null
  const unit = unitOf(ledger.resource, ledger.capacity, cpusOf(ledger.host, ledger.cpus))
  const all = ledger.shares.reduce((sum, s) => sum + (s.amount ?? 0), 0)
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="people-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="people-title">People</h2>
        <span className="text-[12.5px] text-ink-2">for whom its workloads ran, by {title(of)}</span>
      </div>
      <List
        keep="people"
        name={`people-${tenant}`}
        rows={ledger.shares}
        rowKey={(s) => s.name}
        columns={[
          { id: 'user', head: 'Person', isHead: true, value: (s) => s.name, cell: (s) => <Owner name={s.name} /> },
          {
            id: `${of}_mean`,
            head: `Mean ${unit.name}`,
            isFigure: true,
            value: (s) => s.mean,
            cell: (s) => (s.mean === null ? '–' : figure(s.mean, { ...unit, digits: unit.digits + 1 })),
          },
          {
            id: 'part_of_tenant',
            head: '% of the tenant',
            isFigure: true,
            value: (s) => (s.amount === null || all === 0 ? null : s.amount / all),
            cell: (s) => (s.amount === null || all === 0 ? '–' : `${((100 * s.amount) / all).toFixed(1)} %`),
          },
          { id: 'source', head: 'Source', value: (s) => s.source },
        ]}
      />
    </section>
  )
}
