import { Popover } from 'radix-ui'
import { useRef, useState } from 'react'
import { useTimeline } from '../api/queries'
import { hourMinuteSecond, rulerWindow, spanWords, type TimeSearch } from '../time/span'
import { useNow, useTime } from '../time/useTime'
import { RulerChart } from './RulerChart'

/** The time ruler: what span the page is of, how busy the fleet was around it, and how to choose another. */
export function TimeRuler() {
  const { span, choose } = useTime()
  const now = useNow()
  const window = rulerWindow(span, now)
  const timeline = useTimeline(window.from, window.to)
  const svg = useRef<SVGSVGElement>(null)
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null)
  const length = window.to.getTime() - window.from.getTime()

  // A place on the ruler as a time, to the minute.
  const timeAt = (clientX: number) => {
    const box = svg.current!.getBoundingClientRect()
    const part = Math.min(1, Math.max(0, (clientX - box.left) / box.width))
    return Math.round((window.from.getTime() + part * length) / 60_000) * 60_000
  }
  const finish = () => {
    if (!drag) return
    const [a, b] = [Math.min(drag.from, drag.to), Math.max(drag.from, drag.to)]
    setDrag(null)
    // A press without a drag chooses the hour around the moment.
    const short = b - a < 2 * 60_000
    const from = short ? a - 30 * 60_000 : a
    const to = short ? Math.min(a + 30 * 60_000, Date.now()) : b
    choose({ from: new Date(from).toISOString(), to: new Date(to).toISOString() })
  }
  const selected = drag
    ? { from: Math.min(drag.from, drag.to), to: Math.max(drag.from, drag.to) }
    : span.live
      ? { from: now.getTime() - span.minutes * 60_000, to: now.getTime() }
      : { from: span.from.getTime(), to: span.to.getTime() }

  return (
    <section
      aria-label="Time"
      className="mx-7 grid grid-cols-[210px_1fr_190px] items-center gap-4.5 border-y border-rule pt-1.5 pb-1 max-lg:grid-cols-[1fr_auto] max-sm:mx-3"
    >
      <div aria-live="polite">
        <b className="font-semibold">{spanWords(span, now)}</b>{' '}
        {span.live ? (
          <>
            · live <span className="text-ink-2">until {hourMinuteSecond(now)}</span>
          </>
        ) : (
          <span className="text-ink-2">· still</span>
        )}
      </div>
      <div className="max-lg:order-3 max-lg:col-span-2">
        <svg
          ref={svg}
          className="ruler"
          viewBox="0 0 1000 34"
          preserveAspectRatio="none"
          role="img"
          aria-label={`How busy the fleet's CPUs were from ${window.from.toLocaleString('en-GB')} to ${window.to.toLocaleString('en-GB')}. Drag to choose a span, or use pick.`}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId)
            const t = timeAt(e.clientX)
            setDrag({ from: t, to: t })
          }}
          onPointerMove={(e) => drag && setDrag({ ...drag, to: timeAt(e.clientX) })}
          onPointerUp={finish}
          onPointerCancel={() => setDrag(null)}
        >
          <RulerChart timeline={timeline.data} window={window} selected={selected} />
        </svg>
      </div>
      <Choices live={span.live} choose={choose} />
    </section>
  )
}

function Choices({ live, choose }: { live: boolean; choose: (t: TimeSearch) => void }) {
  const preset = (name: string, t: TimeSearch) => (
    <button type="button" className="link" onClick={() => choose(t)}>
      {name}
    </button>
  )
  return (
    <div className="text-right whitespace-nowrap">
      {live ? preset('1 h', {}) : preset('back to live', {})} · {preset('24 h', { span: '24h' })} ·{' '}
      {preset('7 days', { span: '7d' })} · <Pick choose={choose} />
    </div>
  )
}

/** Choosing a span by typing it. */
function Pick({ choose }: { choose: (t: TimeSearch) => void }) {
  const [open, setOpen] = useState(false)
  const [from, setFrom] = useState('')
  const [to, setTo] = useState('')
  const sound = from !== '' && to !== '' && Date.parse(from) < Date.parse(to)
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <button type="button" className="link">
          pick…
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={8}
          className="z-20 rounded-[3px] border border-rule-2 bg-sheet p-4 shadow-md"
          aria-label="Pick a span"
        >
          <form
            className="grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-2"
            onSubmit={(e) => {
              e.preventDefault()
              choose({ from: new Date(from).toISOString(), to: new Date(to).toISOString() })
              setOpen(false)
            }}
          >
            <label htmlFor="pick-from">From</label>
            <input
              id="pick-from"
              type="datetime-local"
              value={from}
              onChange={(e) => setFrom(e.target.value)}
              className="rounded-[3px] border border-rule-2 bg-paper px-2 py-1"
            />
            <label htmlFor="pick-to">To</label>
            <input
              id="pick-to"
              type="datetime-local"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              className="rounded-[3px] border border-rule-2 bg-paper px-2 py-1"
            />
            <span className="col-span-2 text-[12.5px] text-ink-2">
              {from !== '' && to !== '' && !sound
                ? 'The span must begin before it ends.'
                : 'Figures are by the minute.'}
            </span>
            <button
              type="submit"
              disabled={!sound}
              className="col-span-2 cursor-pointer rounded-[3px] bg-vine px-3 py-1 font-semibold text-paper disabled:opacity-50"
            >
              Show
            </button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
