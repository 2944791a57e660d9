import { useRef, type ReactNode } from 'react'
import { Seen, useSeen } from '../api/seen'
import type { Matter, Plate } from '../api/client'
import { Meaning } from '../figures/BalanceBar'
import { shown } from '../figures/Name'
import type { Span } from '../time/span'
import { ListBody } from './ListBody'
import { MeasureBody } from './MeasureBody'
import { drawn, subjectOn, subjectText, titleOf, type Chosen } from './plate'

/** How high what is drawn in a plate is, in pixels, by the height of its row. */
export const heights = { low: 104, '': 210, high: 380 }

/** One plate: what it is called, of whom it is, and its figure or drawing. */
export function PlateSheet({
  plate,
  matter,
  chosen,
  span,
  high,
  tools,
}: {
  plate: Plate
  matter: Matter | undefined
  chosen: Chosen
  span: Span
  /** Pixels. */
  high: number
  /** What can be done with the plate. */
  tools?: ReactNode
}) {
  const title = titleOf(plate, matter)
  const subject = subjectOn(plate.subject, chosen)
  const whose = subject ? subjectText(subject) : `a ${plate.subject.kind} to be chosen`
  const form = drawn(plate, matter)
  const place = useRef<HTMLElement>(null)
  const isSeen = useSeen(place)
  return (
    <article
      ref={place}
      className="sheet plate flex min-w-0 flex-col"
      aria-label={`${title}, ${whose}`}
      style={{ minHeight: high + 44 }}
    >
      <div className="flex flex-wrap items-baseline gap-x-2.5 gap-y-1 border-b border-rule px-3.5 pt-2 pb-1.5">
        <h2 className="text-[15px]">
          {matter ? (
            <Meaning
              meaning={
                <>
                  <p>{matter.meaning}</p>
                  {matter.unit && <p className="mt-1.5">In {matter.unit.replaceAll('_', ' ')}.</p>}
                </>
              }
            >
              {shown(title)}
            </Meaning>
          ) : (
            shown(title)
          )}
        </h2>
        <span className="min-w-0 truncate text-[12.5px] text-ink-2">{shown(whose)}</span>
        {tools}
      </div>
      <div className="min-h-0 min-w-0 flex-1 overflow-x-auto">
        <Seen value={isSeen}>
          {!matter ? (
            <p className="p-3.5 text-wine">This service counts and lists nothing of the name {shown(plate.of)}.</p>
          ) : !subject ? (
            <p className="p-3.5 font-serif">Choose a {plate.subject.kind} above.</p>
          ) : matter.unit !== '' ? (
            <MeasureBody plate={plate} subject={subject} form={form} span={span} high={high} />
          ) : (
            <ListBody plate={plate} subject={subject} form={form} span={span} high={high} />
          )}
        </Seen>
      </div>
    </article>
  )
}
