import { useState } from 'react'
import { useEvents } from '../../api/queries'
import { Choice } from '../../figures/Choice'
import { EventList } from '../../figures/EventList'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'

/** How many events the service tells of a span where nothing else is asked for. */
const mostTold = 500

/** The sorts of events that can be seen alone. */
const sorts: Record<string, { name: string; of: { kinds?: string; urgent?: boolean } }> = {
  all: { name: 'all', of: {} },
  urgent: { name: 'to look at', of: { urgent: true } },
  work: { name: 'work', of: { kinds: 'began,ended,failed,killed,throttled,moved,restarted' } },
  people: { name: 'sign-ins', of: { kinds: 'signed_in,signed_out' } },
  hosts: { name: 'hosts', of: { kinds: 'booted,silent,back,stuck,failed,device_came,device_gone' } },
  changes: { name: 'changes and acts', of: { kinds: 'changed,acted' } },
}

/** What happened on all hosts in the span. */
export function EventsPage() {
  const { span } = useTime()
  const [sort, setSort] = useState('all')
  const events = useEvents(span, sorts[sort]!.of)
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
        <Choice
          label="Which events"
          value={sort}
          set={setSort}
          all={Object.fromEntries(Object.entries(sorts).map(([k, s]) => [k, s.name]))}
        />
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
