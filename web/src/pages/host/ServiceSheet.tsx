import { useState } from 'react'
import { useWorkloads } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { allColumns, usualColumns } from '../workloads/columns'
import { WorkloadTable } from '../workloads/WorkloadTable'

/** The services of a host, and what can be done about each; nothing where there is none. */
export function ServiceSheet({ host }: { host: string }) {
  const { span } = useTime()
  const [sort, setSort] = useState('amount')
  const narrowed = { where: "kind == 'service'", host }
  const services = useWorkloads(span, narrowed, sort)
  if (!services.data?.length) return null
  const all = allColumns()
  const columns = usualColumns('service').flatMap((id) => all.find((c) => c.id === id && id !== 'host') ?? [])
  return (
    <section className="sheet mt-4.5" aria-labelledby="services-title">
      <h2 id="services-title" className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        Services
      </h2>
      <WorkloadTable narrowed={narrowed} columns={columns} sort={sort} setSort={setSort} withKind={false} />
    </section>
  )
}
