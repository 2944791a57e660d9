import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { answer, api } from '../../api/client'
import { said } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { HostsIf } from './HostsIf'
import { Moves } from './Moves'
import { Taken, takenQuery } from './Taken'
import { Unjudged } from './Unjudged'
import type { PlanSearch } from './search'

/** Which hosts could be emptied onto the others, and where everything would go; and what if hosts went, or came. */
export function EmptySheet() {
  const { span } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const query = takenQuery(asked)
  const empty = useQuery({
    queryKey: ['emptying', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/empty', { params: { query: { ...query, ...queryOf(span) } } })),
  })
  return (
    <>
      <Taken />
      <HostsIf key={JSON.stringify(asked)} hosts={empty.data?.hosts.map((h) => h.host).sort() ?? []} />
      {!empty.data && <Waiting error={empty.error} what="The hosts" />}
      {empty.data && (
        <p className="mb-3 font-serif text-[15px]" role="status">
          At once could be emptied: {empty.data.at_once.length > 0 ? empty.data.at_once.join(', ') : 'none'}.
        </p>
      )}
      {empty.data && <Unjudged notes={empty.data.notes} />}
      {empty.data?.hosts.map((h) => (
        <section key={h.host} className="sheet mb-4.5 overflow-x-auto" aria-label={h.host}>
          <div className="px-3.5 pt-2.5 pb-2">
            <h2>{h.host}</h2>
            <p className="font-serif text-[15px]">{said(h.sentence)}</p>
          </div>
          <Moves name={`emptying-${h.host}`} moves={h.moves} />
        </section>
      ))}
    </>
  )
}
