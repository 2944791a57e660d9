import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { answer, api, type SizeAdvice } from '../../api/client'
import { List } from '../../figures/List'
import { said, shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { percent } from '../../figures/text'
import { meanText, title } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'

/** Limits, allotments and machines that are far above or below what is used, with what each advice rests on. */
export function SizesSheet() {
  const { span, search: time } = useTime()
  const sizes = useQuery({
    queryKey: ['sizes', queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/sizes', { params: { query: queryOf(span) } })),
  })
  const figure = (a: SizeAdvice, v: number) => meanText(a.resource, v)
  if (!sizes.data) return <Waiting error={sizes.error} what="The advice" />
  if (sizes.data.length === 0)
    return (
      <p className="font-serif text-[15px]">
        No size is far from what was used in this span. Judged are those of workloads that are there now, of which at
        least twelve steps were recorded.
      </p>
    )
  return (
    <section className="sheet overflow-x-auto" aria-label="Advice on sizes">
      <List
        keep="sizes"
        name="advice-on-sizes"
        rows={sizes.data}
        rowKey={(a) => `${a.id} ${a.resource}`}
        below={(a) => <p className="font-serif">{said(a.sentence)}</p>}
        columns={[
          {
            id: 'workload',
            head: 'Workload',
            isHead: true,
            value: (a) => a.name,
            cell: (a) => <WorkloadLink id={a.id} name={a.name} />,
          },
          { id: 'tenant', head: 'Tenant', value: (a) => a.tenant, cell: (a) => shown(a.tenant) },
          { id: 'host', head: 'Host', value: (a) => a.host },
          { id: 'resource', head: 'Of', value: (a) => title(a.resource) },
          { id: 'way', head: 'Way', value: (a) => a.way },
          { id: 'held', head: 'Held', isFigure: true, value: (a) => a.held, cell: (a) => figure(a, a.held) },
          {
            id: 'advised',
            head: 'Advised',
            isFigure: true,
            value: (a) => a.advised,
            cell: (a) => figure(a, a.advised),
          },
          {
            id: 'saved',
            head: 'Saved',
            isFigure: true,
            value: (a) => a.saved,
            cell: (a) => (a.saved < 0 ? '–' : figure(a, a.saved)),
          },
          {
            id: 'risk',
            head: 'Risk',
            isFigure: true,
            value: (a) => a.steps_hit / a.steps,
            cell: (a) => percent(a.steps_hit / a.steps),
          },
          {
            id: 'try',
            head: 'Try',
            isDrawn: true,
            value: () => null,
            cell: (a) => (
              <Link
                to="/plan"
                search={{ ...time, view: 'limit' as const, workload: a.id, of: a.resource, limit: String(a.advised) }}
              >
                play it again
              </Link>
            ),
          },
        ]}
      />
    </section>
  )
}
