import { written } from '../number'
import { choices } from '../../choices/choices'
import { clock, dayAndMonth, isSameDay, partsOf } from '../../time/zone'
import { useEffect, useRef } from 'react'
import type uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import type { Unit } from '../units'
import { gapsOf, topsOf, type Bound, type Layer } from './layers'
import type { Mark } from './marks'

export interface PlotProps {
  starts: number[] // seconds since 1970
  step: number // seconds
  seconds: number[]
  layers: Layer[]
  isStack: boolean
  bounds: Bound[]
  end: number
  unit: Unit
  marks: Mark[]
  at: number | null
  onAt: (step: number | null) => void
  onChoose: (from: number, to: number) => void
  high: number // pixels
}

/** The drawing of a chart. It is loaded when the first is to be drawn. */
export function Plot(props: PlotProps) {
  const place = useRef<HTMLDivElement>(null)
  const plot = useRef<uPlot | null>(null)
  const now = useRef(props)
  useEffect(() => {
    now.current = props
  })
  useEffect(() => {
    let isGone = false
    let watch: ResizeObserver | undefined
    void import('uplot').then(({ default: UPlot }) => {
      const at = place.current
      if (isGone || !at) return
      plot.current = new UPlot(optionsOf(UPlot, now, at), dataOf(now.current), at)
      watch = new ResizeObserver(() => plot.current?.setSize({ width: at.clientWidth, height: now.current.high }))
      watch.observe(at)
    })
    return () => {
      isGone = true
      watch?.disconnect()
      plot.current?.destroy()
      plot.current = null
    }
    // It is made anew where what is drawn is of another kind; new figures of the same are set below.
  }, [props.layers.length, props.isStack, props.step, props.bounds.length, props.high])
  useEffect(() => {
    plot.current?.setData(dataOf(props))
  }, [props])
  return <div ref={place} className="w-full" style={{ height: props.high }} aria-hidden />
}

/** The columns that are drawn, each step's figure standing until the next step begins. */
function dataOf(p: PlotProps): uPlot.AlignedData {
  const last = p.starts.length - 1
  const xs = [...p.starts, p.starts[last]! + p.step]
  const held = (v: (number | null)[]) => [...v, v[last] ?? null]
  const values = p.isStack ? [...topsOf(p.layers)].reverse() : p.layers.map((l) => l.mean)
  const peaks = p.isStack ? [] : p.layers.map((l) => l.peak ?? l.mean)
  const bounds = p.bounds.map((b) => p.starts.map(() => b.value))
  return [xs, ...[...values, ...peaks, ...bounds].map(held)] as uPlot.AlignedData
}

function optionsOf(UPlot: typeof uPlot, now: { current: PlotProps }, at: HTMLElement): uPlot.Options {
  const styles = getComputedStyle(at)
  const colour = (c: string) => resolveColour(at, c)
  const p = now.current
  const ink = colour('var(--ink-2)')
  const wine = colour('var(--wine)')
  const font = `12px ${styles.fontFamily}`
  const stepped = choices().lines === 'smooth' ? UPlot.paths.spline!() : UPlot.paths.stepped!({ align: 1 })
  const hatch = hatched(colour('var(--rule-2)'))
  const layers = p.isStack ? [...p.layers].reverse() : p.layers
  const drawn: uPlot.Series[] = layers.map((l) => ({
    paths: stepped,
    stroke: colour(l.colour),
    width: p.isStack ? 0.5 : 1.5,
    fill: p.isStack
      ? l.isUnknown
        ? hatch
        : colour(l.colour)
      : p.layers.length === 1
        ? `color-mix(in srgb, ${colour(l.colour)} 18%, transparent)`
        : undefined,
    points: { show: false },
  }))
  const peaks: uPlot.Series[] = p.isStack
    ? []
    : layers.map((l) => ({
        paths: stepped,
        stroke: layers.length === 1 ? ink : colour(l.colour),
        width: l.peak ? 0.75 : 0,
        points: { show: false },
      }))
  const bounds: uPlot.Series[] = p.bounds.map(() => ({
    stroke: wine,
    width: 1,
    dash: [4, 3],
    points: { show: false },
  }))
  const axis = { stroke: ink, font, ticks: { stroke: colour('var(--rule-2)'), width: 1, size: 4 } }
  return {
    width: at.clientWidth,
    height: p.high,
    legend: { show: false },
    cursor: { y: false, points: { show: false }, drag: { x: true, y: false, setScale: false } },
    scales: { x: { time: true }, y: { range: () => [0, now.current.end] } },
    axes: [
      {
        ...axis,
        size: 28,
        grid: { show: false },
        values: (_, splits) => splits.map((s, i) => timeText(s, splits[i - 1])),
      },
      {
        ...axis,
        size: 58,
        grid: { stroke: colour('var(--rule)'), width: 1 },
        values: (_, splits) => splits.map((v) => written(v / now.current.unit.per, { maximumFractionDigits: 3 })),
      },
    ],
    series: [{}, ...drawn, ...peaks, ...bounds],
    hooks: {
      drawClear: [
        (u) => {
          const { starts, step, seconds } = now.current
          u.ctx.save()
          u.ctx.fillStyle = hatch
          for (const [from, to] of gapsOf(seconds)) {
            const left = u.valToPos(starts[from]!, 'x', true)
            const right = u.valToPos(starts[to - 1]! + step, 'x', true)
            u.ctx.fillRect(left, u.bbox.top, right - left, u.bbox.height)
          }
          u.ctx.restore()
        },
      ],
      draw: [
        (u) => {
          u.ctx.save()
          for (const m of now.current.marks) drawMark(u, m, m.isUrgent ? wine : ink)
          u.ctx.restore()
        },
      ],
      setCursor: [
        (u) => {
          const { starts, step, onAt } = now.current
          const left = u.cursor.left ?? -1
          if (left < 0) return onAt(null)
          const k = Math.floor((u.posToVal(left, 'x') - starts[0]!) / step)
          onAt(k >= 0 && k < starts.length ? k : null)
        },
      ],
      setSelect: [
        (u) => {
          const { left, width } = u.select
          if (width < 5) return
          const from = u.posToVal(left, 'x')
          const to = u.posToVal(left + width, 'x')
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
          now.current.onChoose(from, to)
        },
      ],
    },
  }
}

/** Something that happened: a short line at the top; of what somebody should look at a diamond, and a line down. */
function drawMark(u: uPlot, m: Mark, colour: string) {
  const { ctx, bbox } = u
  const x = Math.round(u.valToPos(m.at / 1000, 'x', true))
  if (x < bbox.left || x > bbox.left + bbox.width) return
  const size = 4 * devicePixelRatio
  ctx.strokeStyle = ctx.fillStyle = colour
  ctx.lineWidth = devicePixelRatio
  ctx.beginPath()
  ctx.setLineDash(m.isUrgent ? [2, 3] : [])
  ctx.moveTo(x, bbox.top)
  ctx.lineTo(x, bbox.top + (m.isUrgent ? bbox.height : 1.5 * size))
  ctx.stroke()
  if (!m.isUrgent) return
  ctx.setLineDash([])
  ctx.beginPath()
  ctx.moveTo(x, bbox.top - size)
  ctx.lineTo(x + size, bbox.top)
  ctx.lineTo(x, bbox.top + size)
  ctx.lineTo(x - size, bbox.top)
  ctx.fill()
}

/** The time of a mark on the axis: of the day, and the date where a new one begins. */
function timeText(at: number, before: number | undefined): string {
  const isNewDay = before === undefined || !isSameDay(before * 1000, at * 1000)
  const { hour, minute } = partsOf(at * 1000)
  return isNewDay && hour === 0 && minute === 0 ? dayAndMonth(at * 1000) : clock(at * 1000)
}

/** A colour of the theme as a canvas takes it. */
export function resolveColour(at: HTMLElement, colour: string): string {
  const name = /^var\((--[\w-]+)\)$/.exec(colour)
  return name ? getComputedStyle(at).getPropertyValue(name[1]!).trim() : colour
}

/** A pattern that means that nothing is known. */
export function hatched(colour: string): CanvasPattern | string {
  const tile = document.createElement('canvas')
  tile.width = tile.height = 6
  const c = tile.getContext('2d')
  if (!c) return colour
  c.strokeStyle = colour
  c.beginPath()
  c.moveTo(-1, 7)
  c.lineTo(7, -1)
  c.moveTo(-1, 1)
  c.lineTo(1, -1)
  c.moveTo(5, 7)
  c.lineTo(7, 5)
  c.stroke()
  return c.createPattern(tile, 'repeat') ?? colour
}
