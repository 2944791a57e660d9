import { useNavigate, useSearch } from '@tanstack/react-router'
import { useTime } from '../../time/useTime'
import { Field, field } from './Field'
import type { PlanSearch } from './search'

const percentiles = [50, 90, 95, 99, 100]
const spares = [0, 10, 20, 30, 40, 50]

/** What workloads are taken to need, and how much of each host stays free. */
export function Taken({ hasPercentile = true }: { hasPercentile?: boolean }) {
  const { search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const choose = (of: Partial<PlanSearch>) => void navigate({ to: '/plan', search: { ...time, ...asked, ...of } })
  return (
    <section className="sheet mb-4.5 flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3" aria-label="What is taken">
      {hasPercentile && (
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
      )}
      <Field name="of each host stays free">
        <select className={field} value={asked.spare ?? 10} onChange={(e) => choose({ spare: Number(e.target.value) })}>
          {spares.map((p) => (
            <option key={p} value={p}>
              {p} %
            </option>
          ))}
        </select>
      </Field>
    </section>
  )
}

/** The same as the service is asked for. */
export function takenQuery(asked: PlanSearch) {
  return { percentile: asked.percentile ?? 95, spare: (asked.spare ?? 10) / 100 }
}
