import { useEvents } from '../../api/queries'
import { EventList } from '../../figures/EventList'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'

/** How many events the service tells of a span where nothing else is asked for. */
const mostTold = 500

/** What happened on all hosts in the span. */
export function EventsPage() {
  const { span } = useTime()
  const events = useEvents(span, {})
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-3.5">
        <h1>Events</h1>
        {events.data && (
          <span className="text-ink-2">
            {events.data.length < mostTold
              ? `${events.data.length.toLocaleString('en')} in the span, the newest first`
              : `the newest ${mostTold} of the span: choose a shorter one for what was before`}
          </span>
        )}
      </div>
      <section className="sheet overflow-x-auto" aria-label="What happened">
        {events.data ? (
          events.data.length > 0 ? (
            <EventList name="events" events={events.data} withHost />
          ) : (
            <p className="p-3.5 font-serif">Nothing happened in this span that is recorded.</p>
          )
        ) : (
          <Waiting error={events.error} what="What happened" />
        )}
      </section>
    </>
  )
}
