import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { answer, api } from '../../api/client'
import { List } from '../../figures/List'
import { said, shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { meanText } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { Field, field } from './Field'
import type { PlanSearch } from './search'

const percentiles = [50, 90, 95, 99, 100]
const spares = [0, 10, 20, 30]

/** Which hosts could be emptied onto the others, and where everything would go. */
export function EmptySheet() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const query = { percentile: asked.percentile ?? 95, spare: (asked.spare ?? 10) / 100 }
  const empty = useQuery({
    queryKey: ['emptying', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/empty', { params: { query: { ...query, ...queryOf(span) } } })),
  })
  const choose = (of: Partial<PlanSearch>) =>
    void navigate({
      to: '/plan',
      search: { ...time, view: 'hosts', percentile: asked.percentile, spare: asked.spare, ...of },
    })
  return (
    <>
      <section className="sheet mb-4.5 flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3" aria-label="What is taken">
        <Field name="workloads need, of 100 steps, the highest tick of">
          <select
            className={field}
            value={asked.percentile ?? 95}
            onChange={(e) => choose({ percentile: Number(e.target.value) })}
          >
            {percentiles.map((p) => (
              <option key={p} value={p}>
                {p === 100 ? 'all' : p}
              </option>
            ))}
          </select>
        </Field>
        <Field name="of each host stays free">
          <select
            className={field}
            value={asked.spare ?? 10}
            onChange={(e) => choose({ spare: Number(e.target.value) })}
          >
            {spares.map((p) => (
              <option key={p} value={p}>
                {p} %
              </option>
            ))}
          </select>
        </Field>
      </section>
      {!empty.data && <Waiting error={empty.error} what="The hosts" />}
      {empty.data && (
        <p className="mb-3 font-serif text-[15px]" role="status">
          At once could be emptied: {empty.data.at_once.length > 0 ? empty.data.at_once.join(', ') : 'none'}.
        </p>
      )}
      {empty.data?.hosts.map((h) => (
        <section key={h.host} className="sheet mb-4.5 overflow-x-auto" aria-label={h.host}>
          <div className="px-3.5 pt-2.5 pb-2">
            <h2>{h.host}</h2>
            <p className="font-serif text-[15px]">{said(h.sentence)}</p>
          </div>
          {h.moves.length > 0 && (
            <List
              keep="emptying"
              name={`emptying-${h.host}`}
              rows={h.moves}
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
                  id: 'cpu_cores',
                  head: 'CPU',
                  isFigure: true,
                  value: (m) => m.cpu_cores,
                  cell: (m) => meanText('cpu', m.cpu_cores),
                },
                {
                  id: 'memory_bytes',
                  head: 'Memory',
                  isFigure: true,
                  value: (m) => m.memory_bytes,
                  cell: (m) => meanText('memory', m.memory_bytes),
                },
                { id: 'gpus', head: 'GPUs', isFigure: true, value: (m) => m.gpus },
                { id: 'to', head: 'Would go to', value: (m) => m.to },
              ]}
            />
          )}
        </section>
      ))}
    </>
  )
}
