import { useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { answer, api } from '../../api/client'
import { Waiting } from '../../figures/Trouble'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { PlanForm } from './PlanForm'
import { PlanSheets } from './PlanSheets'
import { EmptySheet } from './EmptySheet'
import { GrowthSheet } from './GrowthSheet'
import { PlaceSheet } from './PlaceSheet'
import { SizesSheet } from './SizesSheet'
import { WhatPins, WhatWeight } from './WhatCPUs'
import { WhatLimit, WhatQuota } from './WhatIf'
import { planQuery, views, type PlanSearch, type PlanView } from './search'

const about: Record<PlanView, string> = {
  cpus: 'Which CPUs somebody would best be given, by what was recorded in this span; nothing changes until you carry a step out.',
  sizes: 'Limits, what jobs asked for, and virtual CPUs, far above or below what was used in this span.',
  hosts: 'Which hosts could be emptied onto the others, by what their workloads had in this span.',
  place: 'Where a workload would fit best, were this span played again with it there.',
  growth: 'When what hosts use fills them, by the whole days of this span: choose some weeks.',
  limit: 'This span played again with another limit of a workload. What the record does not know is told as a bound.',
  quota: 'For how long a tenant would have been above another ceiling in this span, and who waited meanwhile.',
  pins: 'This span played again with other CPUs for a holder: what fits on them and on what is left, and who would have had to move.',
  weight:
    'This span played again with another weight of a workload’s cgroup: where CPUs were short, their time is divided anew.',
}

/** What would be, were something otherwise. The address holds what was asked, so it can be sent to a colleague. */
export function PlanPage() {
  const { search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const view = asked.view ?? 'cpus'
  return (
    <>
      <h1 className="mb-1.5">Plan</h1>
      <nav aria-label="What is planned" className="mb-3 flex flex-wrap gap-x-4">
        {(Object.keys(views) as PlanView[]).map((v) => (
          <Link
            key={v}
            to="/plan"
            search={{ ...time, view: v === 'cpus' ? undefined : v }}
            aria-current={v === view ? 'page' : undefined}
            className={v === view ? 'border-b-2 border-vine pb-0.5 font-semibold text-ink!' : 'pb-0.5'}
          >
            {views[v]}
          </Link>
        ))}
      </nav>
      <p className="mb-3 max-w-200 font-serif text-[15px]">{about[view]}</p>
      {view === 'cpus' && <CPUPlan />}
      {view === 'sizes' && <SizesSheet />}
      {view === 'hosts' && <EmptySheet />}
      {view === 'place' && <PlaceSheet key={JSON.stringify(asked)} />}
      {view === 'growth' && <GrowthSheet />}
      {view === 'limit' && <WhatLimit key={JSON.stringify(asked)} />}
      {view === 'quota' && <WhatQuota key={JSON.stringify(asked)} />}
      {view === 'pins' && <WhatPins key={JSON.stringify(asked)} />}
      {view === 'weight' && <WhatWeight key={JSON.stringify(asked)} />}
    </>
  )
}

function CPUPlan() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const query = planQuery(asked)
  const plan = useQuery({
    queryKey: ['pin-plan', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/pins/plan', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
    retry: false,
  })
  return (
    <>
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
