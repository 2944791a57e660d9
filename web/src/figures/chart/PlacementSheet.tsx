import { clock, dayAndMonth } from '../../time/zone'
import { useEffect, useMemo, useRef, useState } from 'react'
import { useColours, usePlacement } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { Choice } from '../Choice'
import { List, type Column } from '../List'
import { Missed } from '../Missed'
import { listOf, moment, percent } from '../text'
import { Waiting } from '../Trouble'
import { tenantColour } from '../units'
import { lengthOf } from './Chart'
import {
  brightness,
  changes,
  isStray,
  meanOf,
  mostly,
  pinsOf,
  type PlacedCPU,
  type Placement,
  type Shade,
} from './placed'
import { hatched, resolveColour } from './Plot'

/** How high a row is, in pixels, by how many CPUs there are. */
const rowOf = (cpus: number) => (cpus <= 24 ? 15 : cpus <= 64 ? 11 : cpus <= 128 ? 7 : 4)

const shades: Record<Shade, string> = { busy: 'all its time', user: 'in programs', system: 'in the kernel' }

/** Who ran on which CPU of a host, and when: CPUs down, time across, colour by who had most, brightness by how busy. */
export function PlacementSheet({ host }: { host: string }) {
  const { span } = useTime()
  const [by, setBy] = useState<'tenant' | 'workload'>('tenant')
  const [shade, setShade] = useState<Shade>('busy')
  const [isTable, setTable] = useState(false)
  const placement = usePlacement(span, host, by)
  const data = placement.data
  return (
    <section className="sheet mb-4.5" aria-labelledby="placement-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="placement-title">Who ran where, and when</h2>
        <Choice
          label="Colour"
          value={by}
          set={(v) => setBy(v as 'tenant')}
          all={{ tenant: 'by tenant', workload: 'by workload' }}
        />
        <span className="text-[12.5px] text-ink-2">brightness:</span>
        <Choice label="Brightness" value={shade} set={(v) => setShade(v as Shade)} all={shades} />
        <button
          type="button"
          className="link ml-auto text-[12.5px]"
          aria-pressed={isTable}
          onClick={() => setTable(!isTable)}
        >
          {isTable ? 'as a drawing' : 'as a table'}
        </button>
      </div>
      {!data && <Waiting error={placement.error} what="Who ran where" />}
      {data && <Missed by={data} isInSheet />}
      {data && data.cpus.length === 0 && <p className="p-3.5 font-serif">Nothing was told of its CPUs in this span.</p>}
      {data &&
        data.cpus.length > 0 &&
        (isTable ? <CPUList host={host} of={data} /> : <PlacementDrawing of={data} shade={shade} />)}
      {data?.notes.map((n) => (
        <p key={n} className="px-3.5 pb-2 text-[12.5px] text-ink-2">
          Mind: {n}.
        </p>
      ))}
    </section>
  )
}

/** The colour of each who, by place: a tenant's own, or of workloads those of the first eight. */
function useInks(of: Placement): string[] {
  const { colours } = useColours()
  return useMemo(
    () =>
      of.who.map((w, i) =>
        of.by === 'tenant'
          ? tenantColour(colours.get(w.name) ?? 0, w.name)
          : i < 8
            ? tenantColour(i + 1)
            : 'var(--kernel)',
      ),
    [of, colours],
  )
}

export function PlacementDrawing({ of, shade }: { of: Placement; shade: Shade }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const inks = useInks(of)
  const { choose } = useTime()
  const { tenants } = useColours()
  const [at, setAt] = useState<{ row: number; k: number } | null>(null)
  const [drag, setDrag] = useState<number | null>(null)
  const [width, setWidth] = useState(0)
  const row = rowOf(of.cpus.length)
  const height = row * of.cpus.length
  const steps = of.starts.length
  // Whom a declaration names, as far as it can be compared with who ran.
  const holders = useMemo(
    () => new Set([...tenants.map((t) => t.name), ...of.who.map((w) => w.name)]),
    [tenants, of.who],
  )
  const pins = useMemo(() => of.cpus.map((c) => pinsOf(of, c.cpu)), [of])

  useEffect(() => {
    const place = canvas.current!.parentElement!
    const watch = new ResizeObserver(() => setWidth(place.clientWidth))
    watch.observe(place)
    return () => watch.disconnect()
  }, [])
  useEffect(() => {
    const c = canvas.current
    if (!c || width === 0) return
    const scale = devicePixelRatio
    c.width = Math.round(width * scale)
    c.height = Math.round(height * scale)
    const x = c.getContext('2d')
    if (!x) return
    x.scale(scale, scale)
    const ink = (name: string) => resolveColour(c, name)
    const colours = inks.map(ink)
    const [track, wine, text, kernel] = ['var(--track)', 'var(--wine)', 'var(--ink)', 'var(--kernel)'].map(ink)
    const hatch = hatched(ink('var(--rule-2)'))
    const left = (k: number) => (width * k) / steps
    of.cpus.forEach((cpu, r) => {
      const top = r * row
      for (let k = 0; k < steps; k++) {
        const wide = left(k + 1) - left(k) + 0.5 // no gap is seen between steps
        const bright = brightness(cpu, k, shade)
        x.globalAlpha = 1
        x.fillStyle = bright === null ? hatch : track!
        x.fillRect(left(k), top, wide, row - 1)
        if (bright === null) continue
        x.globalAlpha = Math.min(1, bright) ** 0.7 // a fifth is still seen
        x.fillStyle = cpu.top[k]! >= 0 ? colours[cpu.top[k]!]! : kernel!
        x.fillRect(left(k), top, wide, row - 1)
        if (isStray(of, pins[r]!, cpu.top[k]!, k, holders)) {
          x.globalAlpha = 1
          x.fillStyle = wine!
          x.fillRect(left(k), top + row - 3, wide, 2)
        }
      }
      if (pins[r]!.length > 0) {
        x.globalAlpha = 1
        x.strokeStyle = text!
        x.strokeRect(0.5, top + 0.5, width - 1, row - 2)
      }
    })
  }, [of, inks, width, height, row, steps, shade, pins, holders])

  const stepAt = (clientX: number) => {
    const box = canvas.current!.getBoundingClientRect()
    return Math.min(steps - 1, Math.max(0, Math.floor(((clientX - box.left) / box.width) * steps)))
  }
  const rowAt = (clientY: number) => {
    const box = canvas.current!.getBoundingClientRect()
    return Math.min(of.cpus.length - 1, Math.max(0, Math.floor(((clientY - box.top) / box.height) * of.cpus.length)))
  }
  const finish = (clientX: number) => {
    if (drag === null) return
    const [a, b] = [Math.min(drag, stepAt(clientX)), Math.max(drag, stepAt(clientX))]
    setDrag(null)
    if (a === b) return
    const minute = 60_000
    const from = Math.floor(Date.parse(of.starts[a]!) / minute) * minute
    const to = Math.ceil((Date.parse(of.starts[b]!) + of.step_seconds * 1000) / minute) * minute
    choose({ from: new Date(from).toISOString(), to: new Date(to).toISOString() })
  }
  const move = (dx: number, dy: number) =>
    setAt((was) => {
      const now = was ?? { row: 0, k: dx < 0 ? steps : -1 }
      return {
        row: Math.min(of.cpus.length - 1, Math.max(0, now.row + dy)),
        k: Math.min(steps - 1, Math.max(0, now.k + dx)),
      }
    })
  const marks = [0, 0.25, 0.5, 0.75].map((part) => Math.floor(part * steps))
  const everyLabel = row >= 10 ? 1 : row >= 7 ? 2 : 4
  return (
    <div className="px-3.5 pt-2.5 pb-2.5">
      <div className="grid grid-cols-[auto_1fr] gap-x-2">
        <ol className="text-right text-[10.5px] text-ink-2" aria-hidden>
          {of.cpus.map((c, r) => (
            <li
              key={c.cpu}
              style={{ height: row, lineHeight: `${row}px` }}
              className={pins[r]!.length > 0 ? 'font-semibold text-ink' : ''}
            >
              {r % everyLabel === 0 ? c.cpu : ''}
            </li>
          ))}
        </ol>
        <div
          role="img"
          tabIndex={0}
          aria-label={`Who had most of each of ${of.cpus.length} CPUs, in ${steps} steps. ${wordsOf(of)} The arrow keys go through its moments and CPUs.`}
          className="relative min-w-0 cursor-crosshair touch-pan-y"
          onPointerMove={(e) => setAt({ row: rowAt(e.clientY), k: stepAt(e.clientX) })}
          onPointerLeave={() => setAt(null)}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId)
            setDrag(stepAt(e.clientX))
          }}
          onPointerUp={(e) => finish(e.clientX)}
          onPointerCancel={() => setDrag(null)}
          onKeyDown={(e) => {
            const by: Record<string, [number, number]> = {
              ArrowLeft: [-1, 0],
              ArrowRight: [1, 0],
              ArrowUp: [0, -1],
              ArrowDown: [0, 1],
            }
            const way = by[e.key]
            if (!way) return
            e.preventDefault()
            move(...way)
          }}
        >
          <canvas ref={canvas} style={{ width: '100%', height }} className="block" />
          {at && (
            <span
              className="pointer-events-none absolute border-2 border-ink"
              style={{
                left: `${(100 * at.k) / steps}%`,
                width: `max(${100 / steps}%, 4px)`,
                top: at.row * row - 1,
                height: row + 1,
              }}
            />
          )}
          {drag !== null && at && (
            <span
              className="pointer-events-none absolute inset-y-0 bg-vine opacity-20"
              style={{
                left: `${(100 * Math.min(drag, at.k)) / steps}%`,
                width: `${(100 * (Math.abs(at.k - drag) + 1)) / steps}%`,
              }}
            />
          )}
        </div>
        <span />
        <div className="relative h-5 text-[11.5px] text-ink-2" aria-hidden>
          {marks.map((k) => (
            <span key={k} className="absolute" style={{ left: `${(100 * k) / steps}%` }}>
              {clockOf(of.starts[k]!, of.step_seconds)}
            </span>
          ))}
        </div>
      </div>
      <p className="min-h-5 pt-1 text-[12.5px]">{at ? cellWords(of, at.row, at.k, pins[at.row]!) : wordsOf(of)}</p>
      <ul className="flex flex-wrap gap-x-4 gap-y-1 pt-1.5 text-[12.5px] text-ink-2">
        {of.who.slice(0, of.by === 'tenant' ? 12 : 8).map((w, i) => (
          <li key={`${w.id} ${w.name}`}>
            <span className="sw mr-1.5" style={{ background: inks[i] }} aria-hidden />
            {w.name}
          </li>
        ))}
        {of.by === 'workload' && of.who.length > 8 && (
          <li>
            <span className="sw mr-1.5" style={{ background: 'var(--kernel)' }} aria-hidden />
            {of.who.length - 8} more, and the kernel alone
          </li>
        )}
      </ul>
      <p className="pt-1 text-[12.5px] text-ink-2">
        A row is a CPU; each step is {lengthOf(of.step_seconds)}. Bright is busy, hatched was not told. A frame is a
        declared CPU; underlined in wine red, somebody else had most of one that was declared for its holder alone. Drag
        to choose a span.
      </p>
    </div>
  )
}

const clockOf = (start: string, step: number) => (step >= 3600 ? `${dayAndMonth(start)} ${clock(start)}` : clock(start))

/** The whole in a sentence: who had most of how many CPUs. */
function wordsOf(of: Placement): string {
  const by = new Map<number, number[]>()
  of.cpus.forEach((c) => {
    const who = mostly(c, of.seconds)
    by.set(who, [...(by.get(who) ?? []), c.cpu])
  })
  const parts = [...by]
    .filter(([who]) => who >= 0)
    .sort(([, a], [, b]) => b.length - a.length)
    .slice(0, 4)
    .map(([who, cpus]) => `${of.who[who]!.name} on ${listOf(cpus)}`)
  return parts.length > 0 ? `Over the span, most ran: ${parts.join('; ')}.` : 'Nobody ran in this span.'
}

/** One cell in a sentence. */
function cellWords(of: Placement, row: number, k: number, pins: Placement['pins']): string {
  const c = of.cpus[row]!
  const head = `CPU ${c.cpu}, from ${moment(of.starts[k]!)}: `
  if (of.seconds[k] === 0) return `${head}nothing was told.`
  const who = of.who[c.top[k]!]
  const tenant = who && of.by === 'workload' && who.tenant ? ` of ${who.tenant}` : ''
  const most = who ? `most had ${who.name}${tenant}, ${percent(c.top_part[k] ?? 0)} of its time` : 'no workload ran'
  const busy = c.busy_part[k]
  const parts =
    busy === null || busy === undefined
      ? ''
      : `; busy ${percent(busy)}: ${percent(c.user_part[k] ?? 0)} in programs, ${percent(c.system_part[k] ?? 0)} in the kernel`
  const declared = pins.length > 0 ? `; declared for ${pins.map((p) => p.holder).join(', ')}` : ''
  return `${head}${most}${parts}${declared}.`
}

/** The same by CPU. */
function CPUList({ host, of }: { host: string; of: Placement }) {
  const part = (v: number | null) => (v === null ? '–' : percent(v))
  const mean = (of_: (c: PlacedCPU) => (number | null)[]) => (c: PlacedCPU) => meanOf(of_(c), of.seconds)
  const share = (id: string, head: string, parts: (c: PlacedCPU) => (number | null)[]): Column<PlacedCPU> => ({
    id,
    head,
    isFigure: true,
    value: mean(parts),
    cell: (c) => part(mean(parts)(c)),
  })
  const columns: Column<PlacedCPU>[] = [
    { id: 'cpu', head: 'CPU', isHead: true, value: (c) => c.cpu },
    { id: 'mostly', head: 'Mostly', value: (c) => of.who[mostly(c, of.seconds)]?.name ?? null },
    share('busy_part', 'Busy', (c) => c.busy_part),
    share('user_part', 'In programs', (c) => c.user_part),
    share('system_part', 'In the kernel', (c) => c.system_part),
    { id: 'changes', head: 'Changed hands', isFigure: true, value: changes },
    {
      id: 'declared_for',
      head: 'Declared for',
      value: (c) =>
        pinsOf(of, c.cpu)
          .map((p) => p.holder)
          .join(', ') || null,
    },
  ]
  return (
    <div className="max-h-120 overflow-auto">
      <List name={`who ran where on ${host}`} rows={of.cpus} columns={columns} rowKey={(c) => String(c.cpu)} />
    </div>
  )
}
