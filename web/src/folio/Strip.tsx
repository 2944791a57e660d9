import { useState } from 'react'
import type { Plate } from '../api/client'
import { useMatters } from '../api/queries'
import { shown } from '../figures/Name'
import { useTime } from '../time/useTime'
import { plateOf } from './draft'
import { ListBody } from './ListBody'
import { MeasureBody } from './MeasureBody'
import { drawn, subjectText, titleOf } from './plate'
import { PlateDialog } from './PlateDialog'
import { stripSpan, useStrip } from './useStrip'

/** How many figures a strip has at most, and the forms that they have. */
const mostInStrip = 6
const stripForms = ['number', 'filled']

/** A few figures that one always wants in view: beside each other on every page, or below each other in a window. */
export function Strip({ isWindow }: { isWindow?: boolean }) {
  const { plates, show, keep, error } = useStrip()
  const matters = useMatters().data
  const { span } = useTime()
  const [isChanging, setChanging] = useState(false)
  const [isAdding, setAdding] = useState(false)
  if (!matters) return null
  const of = (p: Plate) => matters.find((m) => m.name === p.of)
  const live = span.live && span.pace ? span : stripSpan
  const swap = (i: number, by: number) => {
    const next = [...plates]
    next.splice(i + by, 0, ...next.splice(i, 1))
    keep(next)
  }
  return (
    <section
      aria-label="In view"
      className={
        isWindow
          ? 'plate min-h-screen bg-sheet p-2'
          : 'plate mx-7 flex flex-wrap items-stretch border-b border-rule max-sm:mx-3'
      }
    >
      {plates.map((p, i) => {
        const title = titleOf(p, of(p))
        const props = { plate: p, subject: p.subject, form: drawn(p, of(p)), span: live, high: 60 }
        return (
          <div
            key={`${i} ${JSON.stringify(p)}`}
            className={
              isWindow ? 'border-b border-rule py-1.5' : 'min-w-44 flex-1 border-r border-rule py-1 last:border-0'
            }
          >
            <h2 className="flex items-baseline gap-2 px-3.5 font-sans text-[13px] font-semibold">
              {shown(title)} <span className="font-normal text-ink-2">{shown(subjectText(p.subject))}</span>
            </h2>
            {(of(p)?.groupings.length ?? 0) > 0 ? <MeasureBody {...props} /> : <ListBody {...props} />}
            {isChanging && (
              <p className="flex gap-3 px-3.5 text-[12.5px]">
                <button
                  type="button"
                  className="link min-h-7"
                  disabled={i === 0}
                  aria-label={`before: ${title}`}
                  onClick={() => swap(i, -1)}
                >
                  before
                </button>
                <button
                  type="button"
                  className="link min-h-7"
                  disabled={i === plates.length - 1}
                  aria-label={`behind: ${title}`}
                  onClick={() => swap(i, 1)}
                >
                  behind
                </button>
                <button
                  type="button"
                  className="link min-h-7"
                  aria-label={`remove ${title}`}
                  onClick={() => keep(plates.filter((_, k) => k !== i))}
                >
                  remove
                </button>
              </p>
            )}
          </div>
        )
      })}
      <div className={`flex gap-x-3 px-2 py-1.5 text-[12.5px] ${isWindow ? '' : 'ml-auto flex-col items-end'}`}>
        {plates.length === 0 && <p className="text-ink-2">Three to six figures that are always in view.</p>}
        {plates.length < mostInStrip && (
          <button type="button" className="link min-h-7" onClick={() => setAdding(true)}>
            add a figure…
          </button>
        )}
        {plates.length > 0 && (
          <button
            type="button"
            className="link min-h-7"
            aria-pressed={isChanging}
            onClick={() => setChanging(!isChanging)}
          >
            {isChanging ? 'done' : 'change'}
          </button>
        )}
        {!isWindow && (
          <>
            <button
              type="button"
              className="link min-h-7"
              onClick={() => window.open('/strip', 'vinescale-strip', 'popup,width=340,height=560')}
            >
              own window
            </button>
            <button type="button" className="link min-h-7" onClick={() => show(false)}>
              put away
            </button>
          </>
        )}
        {plates.length > 0 && <span className="text-ink-2">{span.live && span.pace ? 'now' : 'the last 15 min'}</span>}
        {error && (
          <p role="alert" className="text-wine">
            Not kept: {error.message}
          </p>
        )}
      </div>
      {isAdding && (
        <PlateDialog
          title="Add a figure to what is in view"
          matters={matters}
          only={stripForms}
          chosen={{}}
          span={live}
          keep={(p) => {
            keep([...plates, plateOf(p)])
            setAdding(false)
          }}
          close={() => setAdding(false)}
        />
      )}
    </section>
  )
}
