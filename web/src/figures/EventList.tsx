import { momentSeconds } from '../time/zone'
import { Link } from '@tanstack/react-router'
import type { Happened } from '../api/client'
import { useTime } from '../time/useTime'
import { List, type Column } from './List'
import { said, shown } from './Name'
import { WorkloadLink } from './WorkloadLink'

/** The quarter of an hour until a moment, with its own minute. */
export function before(at: string): { from: string; to: string } {
  const minute = 60_000
  const to = (Math.floor(Date.parse(at) / minute) + 1) * minute
  return { from: new Date(to - 15 * minute).toISOString(), to: new Date(to).toISOString() }
}

/** When something happened, and the way to what was just before: on its host, or on all. */
function Then({ of: e }: { of: Happened }) {
  const text = momentSeconds(e.at)
  const title = 'What was in the quarter of an hour before'
  return e.host ? (
    <Link to="/hosts/$host" params={{ host: e.host }} search={before(e.at)} title={title}>
      {text}
    </Link>
  ) : (
    <Link to="/" search={before(e.at)} title={title}>
      {text}
    </Link>
  )
}

/** What happened, a line each; what somebody should look at has a mark. */
export function EventList({
  name,
  events,
  withHost,
  first,
}: {
  name: string
  events: Happened[]
  withHost?: boolean
  /** How many are shown; all where that is left out. */
  first?: number
}) {
  const { search } = useTime()
  const columns: Column<Happened>[] = [
    {
      id: 'at',
      head: 'When',
      className: 'whitespace-nowrap',
      value: (e) => e.at,
      cell: (e) => <Then of={e} />,
    },
    {
      id: 'name',
      head: 'What',
      isHead: true,
      value: (e) => e.name,
      cell: (e) => (e.workload_id > 0 ? <WorkloadLink id={e.workload_id} name={e.name} /> : shown(e.name)),
    },
    {
      id: 'text',
      head: 'Happened',
      value: (e) => e.text,
      cell: (e) => (
        <>
          {e.urgent && <span className="mark-bad mr-2 inline-block" role="img" aria-label="look at it" />}
          {said(e.text)}
        </>
      ),
    },
    ...(withHost
      ? [
          {
            id: 'host',
            head: 'Host',
            value: (e: Happened) => e.host || null,
            cell: (e: Happened) =>
              e.host ? (
                <Link to="/hosts/$host" params={{ host: e.host }} search={search}>
                  {e.host}
                </Link>
              ) : (
                '–'
              ),
          },
        ]
      : []),
    { id: 'tenant', head: 'Tenant', value: (e) => e.tenant || null },
    { id: 'who', head: 'By', value: (e) => e.who || null },
    { id: 'kind', head: 'Kind', value: (e) => e.kind, isHidden: true },
  ]
  return (
    <List
      keep="events"
      name={name}
      rows={events}
      columns={columns}
      first={first}
      rowKey={(e) => `${e.at} ${e.kind} ${e.host} ${e.workload_id} ${e.name} ${e.text}`}
    />
  )
}
