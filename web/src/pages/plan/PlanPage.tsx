import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { answer, api } from '../../api/client'
import { Waiting } from '../../figures/Trouble'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { PlanForm } from './PlanForm'
import { PlanSheets } from './PlanSheets'
import { planQuery, type PlanSearch } from './search'

/** Which CPUs somebody would best be given. The address holds what was asked, so a plan can be sent to a colleague. */
export function PlanPage() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const query = planQuery(asked)
  const plan = useQuery({
    queryKey: ['pin-plan', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/pins/plan', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
  })
  return (
    <>
      <h1 className="mb-1.5">Plan</h1>
      <p className="mb-3 max-w-200 font-serif text-[15px]">
        Which CPUs somebody would best be given, by what was recorded in this span; nothing changes until you carry a
        step out.
      </p>
      <section className="sheet mb-4.5" aria-label="What is planned">
        <PlanForm
          key={JSON.stringify(asked)}
          of={asked}
          onPlan={(p) => void navigate({ to: '/plan', search: { ...time, ...p } })}
        />
      </section>
      {query && (plan.data ? <PlanSheets plan={plan.data} /> : <Waiting error={plan.error} what="The plan" />)}
    </>
  )
}
