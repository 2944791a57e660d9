import { useEvents } from '../api/queries'
import { useTime } from '../time/useTime'
import { EventList } from './EventList'

/** What happened on a host, or to a tenant's workloads; nothing where nothing did. */
export function EventSheet({ name, of }: { name: string; of: { host?: string; tenant?: string } }) {
  const { span } = useTime()
  const events = useEvents(span, of).data
  if (!events || events.length === 0) return null
  return (
    <section className="sheet mt-4.5 mb-4.5 overflow-x-auto" aria-labelledby="events-title">
      <h2 id="events-title" className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        What happened
      </h2>
      <div className="max-h-96 overflow-y-auto" tabIndex={0} role="group" aria-label="Events, to scroll">
        <EventList name={`events-of-${name}`} events={events} withHost={!of.host} />
      </div>
    </section>
  )
}
