import { momentSeconds, zoneName } from '../time/zone'
import { Popover } from 'radix-ui'
import { useRef, useState } from 'react'
import { usePace } from '../api/follow'
import { useTimeline, useUrgent } from '../api/queries'
import {
  boundsOf,
  hourMinuteSecond,
  paces,
  readTyped,
  rulerWindow,
  spanOf,
  spanWords,
  typed,
  chosenPace,
  type Span,
  type TimeSearch,
} from '../time/span'
import { useNow, useTime } from '../time/useTime'
import { RulerChart } from './RulerChart'

/** The time ruler: what span the page is of, how busy the fleet was around it, and how to choose another. */
export function TimeRuler() {
  const { span, choose } = useTime()
  const now = useNow()
  const window = rulerWindow(span, now)
  const timeline = useTimeline(window.from, window.to)
  const events = useUrgent(window.from, window.to).data
  const urgent = events?.map((e) => Date.parse(e.at)) ?? []
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
        {span.live && span.pace ? (
          <Pace pace={span.pace} choose={choose} />
        ) : span.live ? (
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
          aria-label={`How busy the fleet's CPUs were from ${momentSeconds(window.from)} to ${momentSeconds(window.to)}; ${urgent.length} things happened that somebody should look at. Drag to choose a span, or use pick.`}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId)
            const t = timeAt(e.clientX)
            setDrag({ from: t, to: t })
          }}
          onPointerMove={(e) => drag && setDrag({ ...drag, to: timeAt(e.clientX) })}
          onPointerUp={finish}
          onPointerCancel={() => setDrag(null)}
        >
          <RulerChart timeline={timeline.data} window={window} selected={selected} urgent={urgent} />
        </svg>
      </div>
      <Choices span={span} choose={choose} />
    </section>
  )
}

/** At what pace the page follows, and how hosts are read for that. */
function Pace({ pace, choose }: { pace: number; choose: (t: TimeSearch) => void }) {
  const read = usePace()
  const hosts = read && `${read.hosts} host${read.hosts === 1 ? ' is' : 's are'} read every ${read.tick_seconds} s`
  return (
    <>
      ·{' '}
      <label>
        every{' '}
        <select
          value={pace}
          onChange={(e) => choose({ live: `${e.target.value}s` })}
          className="rounded-xs border border-rule-2 bg-sheet px-1"
        >
          {paces.map((p) => (
            <option key={p} value={p}>
              {p} s
            </option>
          ))}
        </select>
      </label>
      <span
        className="block truncate text-[12px] text-ink-2"
        title={
          read &&
          `${hosts}. Their readings keep ${read.reading_cores.toFixed(3)} CPUs busy; ` +
            `${read.usual_cores.toFixed(3)} as often as they are read when nobody looks.`
        }
      >
        {read ? `${hosts}, for ${read.reading_cores.toFixed(3)} CPUs` : 'waiting for live frames'}
      </span>
    </>
  )
}

function Choices({ span, choose }: { span: Span; choose: (t: TimeSearch) => void }) {
  const preset = (name: string, t: TimeSearch) => {
    const is = spanOf(t)
    const isShown = span.live && is.live && span.span === is.span && span.pace === is.pace
    return (
      <button type="button" className="link aria-pressed:text-ink" aria-pressed={isShown} onClick={() => choose(t)}>
        {name}
      </button>
    )
  }
  const now = { live: `${span.live && span.pace ? span.pace : chosenPace()}s` }
  return (
    <div className="text-right whitespace-nowrap">
      {preset('now', now)} · {preset('1 h', {})} · {preset('24 h', { span: '24h' })} · {preset('7 d', { span: '7d' })} ·{' '}
      <Pick span={span} choose={choose} />
    </div>
  )
}

/** Choosing a span by typing it. It opens with the span that is shown. */
function Pick({ span, choose }: { span: Span; choose: (t: TimeSearch) => void }) {
  const [open, setOpen] = useState(false)
  const [from, setFrom] = useState('')
  const [to, setTo] = useState('')
  const now = new Date()
  const begin = readTyped(from, now)
  const end = readTyped(to, begin ?? now)
  const wrong =
    !begin || !end
      ? 'Write a moment as 2026-10-11 14:20, or 14:20 of the same day.'
      : begin >= end
        ? 'The span must begin before it ends.'
        : null
  const toggle = (isOpen: boolean) => {
    if (isOpen) {
      const shown = boundsOf(span, new Date())
      setFrom(typed(shown.from))
      setTo(typed(shown.to))
    }
    setOpen(isOpen)
  }
  const field = (id: string, name: string, value: string, set: (v: string) => void) => (
    <>
      <label htmlFor={id}>{name}</label>
      <input
        id={id}
        value={value}
        onChange={(e) => set(e.target.value)}
        autoComplete="off"
        spellCheck={false}
        aria-describedby="pick-help"
        className="num w-44 rounded-[3px] border border-rule-2 bg-paper px-2 py-1 text-left"
      />
    </>
  )
  return (
    <Popover.Root open={open} onOpenChange={toggle}>
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
            className="grid w-72 grid-cols-[auto_1fr] items-center gap-x-3 gap-y-2"
            onSubmit={(e) => {
              e.preventDefault()
              if (!begin || !end || wrong) return
              choose({ from: begin.toISOString(), to: end.toISOString() })
              setOpen(false)
            }}
          >
            {field('pick-from', 'From', from, setFrom)}
            {field('pick-to', 'To', to, setTo)}
            <span id="pick-help" role="status" className="col-span-2 text-[12.5px] text-ink-2">
              {wrong ?? `Figures are by the minute; times are of ${zoneName()}.`}
            </span>
            <button
              type="submit"
              disabled={wrong !== null}
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
