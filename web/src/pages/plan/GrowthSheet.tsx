import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { answer, api } from '../../api/client'
import type { components } from '../../api/schema.gen'
import { List } from '../../figures/List'
import { shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { date } from '../../time/zone'
import { meanText, title } from '../../figures/units'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { Taken } from './Taken'
import type { PlanSearch } from './search'

type Fill = components['schemas']['Fill']

/** When what hosts use fills them. */
export function GrowthSheet() {
  const { span } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const query = { spare: (asked.spare ?? 10) / 100 }
  const growth = useQuery({
    queryKey: ['growth', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/growth', { params: { query: { ...query, ...queryOf(span) } } })),
  })
  const figure = (of: 'full' | 'now' | 'per_day') => (g: Fill) => (g[of] === null ? '–' : meanText(g.resource, g[of]))
  const when = (of: 'fills' | 'fills_early' | 'fills_late') => (g: Fill) =>
    g.is_full ? 'now' : g.now === null ? '–' : g[of] === null ? 'not in 2 years' : date(g[of])
  return (
    <>
      <Taken hasPercentile={false} />
      {!growth.data && <Waiting error={growth.error} what="The growth" />}
      {growth.data && (
        <section className="sheet overflow-x-auto" aria-label="When hosts are full">
          <List
            keep="growth"
            name="growth"
            rows={growth.data.lines}
            rowKey={(g) => `${g.on} ${g.resource}`}
            columns={[
              {
                id: 'on',
                head: 'On',
                isHead: true,
                className: 'whitespace-nowrap',
                value: (g) => g.on,
                cell: (g) => shown(g.on),
              },
              { id: 'resource', head: 'Resource', value: (g) => title(g.resource) },
              { id: 'full', head: 'Full at', isFigure: true, value: (g) => g.full, cell: figure('full') },
              { id: 'now', head: 'Now', isFigure: true, value: (g) => g.now, cell: figure('now') },
              { id: 'per_day', head: 'A day', isFigure: true, value: (g) => g.per_day, cell: figure('per_day') },
              { id: 'fills', head: 'Is full', value: (g) => g.fills, cell: when('fills') },
              { id: 'fills_early', head: 'From', value: (g) => g.fills_early, cell: when('fills_early') },
              { id: 'fills_late', head: 'Until', value: (g) => g.fills_late, cell: when('fills_late') },
              { id: 'days_known', head: 'Days', isFigure: true, value: (g) => g.days_known },
            ]}
          />
          <p className="max-w-200 px-3.5 py-2 font-serif text-[13.5px] text-ink-2">{growth.data.method}</p>
        </section>
      )}
    </>
  )
}
