import { useMemo, useState } from 'react'
import type { Happened, Series } from '../../api/client'
import { useTime } from '../../time/useTime'
import { List, type Column } from '../List'
import { said } from '../Name'
import { moment } from '../text'
import { figure, type Unit } from '../units'
import { highestOf, scaleOf, sumOf, topsOf, type Bound, type Layer, type Told } from './layers'
import { marksOf, toldOf, type Mark } from './marks'
import { Plot } from './Plot'

/** How figures went, as a drawing that can be read at every moment, or as a table. */
export function Chart({
  name,
  series,
  layers,
  bounds,
  unit,
  isStack,
  of,
  events,
  small,
}: {
  /** What it is of, for those who do not see it and for files. */
  name: string
  series: Series
  layers: Layer[]
  bounds: Bound[]
  unit: Unit
  isStack: boolean
  /** What percentages are of; none where that is not known. */
  of?: Bound
  /** What happened meanwhile to what it is of. */
  events?: Happened[]
  /** Drawn so high, in pixels, with its figures below it: where there is little room. */
  small?: number
}) {
  const [at, setAt] = useState<number | null>(null)
  const [isTable, setTable] = useState(false)
  const { choose } = useTime()
  const when = (k: number) => moment(series.starts[k]!)
  const drawn = isStack ? topsOf(layers).slice(-1) : layers.flatMap((l) => [l.mean, l.peak ?? []])
  const scale = scaleOf(drawn, bounds, unit, when)
  const highest = highestOf(drawn)
  const precise = { ...unit, digits: unit.digits + 1 }
  const text = (v: Told | undefined) => (v === null || v === undefined ? '–' : figure(v, precise))
  const count = series.starts.length
  const begin = Date.parse(series.starts[0] ?? series.from)
  const marks = useMemo(() => marksOf(events, begin, Date.parse(series.to), mostMarks), [events, begin, series.to])
  const move = (by: number) => setAt(Math.min(count - 1, Math.max(0, (at ?? (by > 0 ? -1 : count)) + by)))
  const summary =
    `${name}, in ${count} steps` +
    (highest ? `: the highest was ${text(highest.value)} ${unit.name} ${when(highest.at)}.` : ': nothing was told.')
  return (
    <div className="@container">
      <div className="flex flex-wrap items-baseline gap-3 px-3.5 pt-2 text-[12.5px] text-ink-2">
        <span>{unit.name}</span>
        <button type="button" className="link ml-auto" aria-pressed={isTable} onClick={() => setTable(!isTable)}>
          {isTable ? 'as a drawing' : 'as a table'}
        </button>
      </div>
      {isTable ? (
        <StepList name={name} series={series} layers={layers} unit={unit} />
      ) : (
        <div
          className={`grid items-start gap-3 px-3.5 max-md:grid-cols-1 ${small ? 'grid-cols-1 gap-y-0 @2xl:grid-cols-[1fr_auto]' : 'grid-cols-[1fr_auto]'}`}
        >
          <div
            role="img"
            tabIndex={0}
            aria-label={`${summary} ${scale.words} The arrow keys go through its moments.`}
            onKeyDown={(e) => {
              if (e.key === 'ArrowLeft') move(-1)
              else if (e.key === 'ArrowRight') move(1)
              else return
              e.preventDefault()
            }}
            className="min-w-0"
          >
            <Plot
              starts={series.starts.map((s) => Date.parse(s) / 1000)}
              step={series.step_seconds}
              seconds={series.seconds}
              layers={layers}
              isStack={isStack}
              bounds={bounds.filter((b) => b.value <= scale.end)}
              end={scale.end}
              unit={unit}
              marks={marks}
              at={at}
              onAt={setAt}
              onChoose={(from, to) => choose(minutes(from, to))}
              high={small ?? usualHigh}
            />
          </div>
          <div>
            <Moment series={series} layers={layers} at={at} text={text} isStack={isStack} of={of} />
            <Meanwhile series={series} marks={marks} at={at} />
          </div>
        </div>
      )}
      <p className="px-3.5 pt-1 pb-2 text-[12.5px] text-ink-2">
        {scale.words} Each step is {lengthOf(series.step_seconds)}.{!small && ' Drag over it to choose a span.'}
        {!isStack && layers.some((l) => l.peak) && ` A thin line is the highest ${series.peak_of} of each.`}
        {marks.length > 0 && ' A line at the top is something that happened; a diamond, something to look at.'}
      </p>
    </div>
  )
}

/** How high charts are, in pixels. */
const usualHigh = 190

/** How many events a chart has marks of; beyond it, of what somebody should look at. */
const mostMarks = 60

/** What happened in the step that is pointed at. */
function Meanwhile({ series, marks, at }: { series: Series; marks: Mark[]; at: number | null }) {
  if (at === null) return null
  const from = Date.parse(series.starts[at]!)
  return (
    <ul className="max-w-72 px-2 pt-1 text-[12.5px] text-ink-2">
      {toldOf(marks, from, from + series.step_seconds * 1000).map((t) => (
        <li key={t}>{said(t)}</li>
      ))}
    </ul>
  )
}

/** A span that was dragged over, in whole minutes. */
function minutes(from: number, to: number): { from: string; to: string } {
  const first = Math.floor(from / 60) * 60
  const last = Math.max(Math.ceil(to / 60) * 60, first + 60)
  return { from: new Date(first * 1000).toISOString(), to: new Date(last * 1000).toISOString() }
}

export function lengthOf(seconds: number): string {
  for (const [name, long] of [
    ['day', 86_400],
    ['hour', 3600],
    ['minute', 60],
  ] as const)
    if (seconds % long === 0) {
      const n = seconds / long
      return `${n === 1 ? (name === 'hour' ? 'an' : 'a') : n} ${name}${n === 1 ? '' : 's'}`
    }
  return `${seconds} s`
}

/** What each layer had at the moment that is pointed at, or else over the whole span. */
function Moment({
  series,
  layers,
  at,
  text,
  isStack,
  of,
}: {
  series: Series
  layers: Layer[]
  at: number | null
  text: (v: Told | undefined) => string
  isStack: boolean
  of?: Bound
}) {
  const meanOf = (list: Told[]): Told => {
    let sum = 0
    let long = 0
    list.forEach((v, k) => {
      if (v === null) return
      sum += v * series.seconds[k]!
      long += series.seconds[k]!
    })
    return long > 0 ? sum / long : null
  }
  const value = (list: Told[] | undefined) => (list ? (at === null ? meanOf(list) : (list[at] ?? null)) : null)
  const figureOf = (l: Layer) => (at === null && l.whole !== undefined ? l.whole : value(l.mean))
  const sum = isStack ? value(sumOf(layers)) : null
  const part = (v: Told) =>
    v === null || !of || of.value <= 0 ? '' : `${((100 * v) / of.value).toFixed(1).replace(/^-(0\.0)$/, '$1')} %`
  const highest = (l: Layer) => (at === null ? (highestOf([l.peak ?? []])?.value ?? null) : (l.peak?.[at] ?? null))
  const hasPeaks = layers.some((l) => l.peak)
  return (
    <table className="w-auto text-[12.5px] [&_td]:border-0 [&_td]:py-0.5 [&_th]:border-0 [&_th]:py-0.5">
      <caption className="px-2 pb-1 text-left text-ink-2">
        {at === null ? 'mean of the span' : `from ${moment(series.starts[at]!)}`}
        {at !== null && series.seconds[at] === 0 && ': nothing was told'}
      </caption>
      {hasPeaks && (
        <thead>
          <tr>
            <td />
            <th scope="col" className="num font-normal text-ink-2">
              mean
            </th>
            <th scope="col" className="num font-normal text-ink-2">
              highest
            </th>
          </tr>
        </thead>
      )}
      <tbody>
        {(isStack ? [...layers].reverse() : layers).map((l) => (
          <tr key={l.key}>
            <th scope="row" className="max-w-56 truncate font-normal">
              <span
                className="sw mr-1.5"
                style={{ background: l.isUnknown ? 'var(--unknown)' : l.colour }}
                aria-hidden
              />
              {l.name}
            </th>
            <td className="num">{text(figureOf(l))}</td>
            {hasPeaks && <td className="num text-ink-2">{text(highest(l))}</td>}
            {of && <td className="num text-ink-2">{part(figureOf(l))}</td>}
          </tr>
        ))}
        {isStack && (
          <tr>
            <th scope="row">all</th>
            <td className="num font-semibold">{text(sum)}</td>
            {hasPeaks && <td />}
            {of && <td className="num text-ink-2">{part(sum)}</td>}
          </tr>
        )}
        {of && (
          <tr>
            <td colSpan={hasPeaks ? 4 : 3} className="text-ink-2">
              % of {of.name}
            </td>
          </tr>
        )}
      </tbody>
    </table>
  )
}

/** The same figures step by step. */
export function StepList({
  name,
  series,
  layers,
  unit,
}: {
  name: string
  series: Series
  layers: Layer[]
  unit: Unit
}) {
  const rows = series.starts.map((start, k) => ({ start, k }))
  type Row = (typeof rows)[number]
  const columns: Column<Row>[] = [
    { id: 'start', head: 'From', isHead: true, value: (r) => r.start, cell: (r) => moment(r.start) },
    ...layers.map((l): Column<Row> => ({
      id: `${l.name}_${series.mean_unit}`,
      head: l.name,
      isFigure: true,
      value: (r) => l.mean[r.k] ?? null,
      cell: (r) => (l.mean[r.k] === null ? '–' : figure(l.mean[r.k]!, { ...unit, digits: unit.digits + 1 })),
    })),
    { id: 'seconds_told', head: 'Told, s', isFigure: true, value: (r) => Math.round(series.seconds[r.k]!) },
  ]
  return (
    <div className="max-h-96 overflow-auto">
      <List name={name} rows={rows} columns={columns} rowKey={(r) => r.start} />
    </div>
  )
}
