import type { CPULine, PinAudit, PinnedCPU } from '../../api/client'
import { useCPUs, usePins } from '../../api/queries'
import { listOf, percent, waits } from '../../figures/text'
import { said } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { tenantColour } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { kernel, layOut, timeOf, untold } from './places'

/** Who ran where: a column a CPU, siblings joined to a core, nodes apart, stacked by tenant; a frame is a pin, a diamond an intruder. */
export function CPUMap({ host, colours }: { host: string; colours: Map<string, number> }) {
  const { span } = useTime()
  const cpus = useCPUs(span, host)
  const pins = usePins(span, host)
  const declared = new Map(pins.data?.flatMap((pin) => pin.each.map((of): [number, Held] => [of.cpu, { pin, of }])))
  const nodes = layOut(cpus.data?.cpus ?? [])
  const waited = waits(cpus.data?.pressure ?? [])
  return (
    <section className="sheet" aria-labelledby="map-title">
      <div className="flex flex-wrap items-baseline gap-x-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="map-title">Who ran where</h2>
        <span className="text-[12.5px] text-ink-2">
          a column a CPU, a frame a pin; the height is the busy part of the span
        </span>
        <a className="ml-auto text-[12.5px]" href="#cpus-title">
          as table
        </a>
      </div>
      {!cpus.data && <Waiting error={cpus.error} what="The CPUs" />}
      {cpus.data?.unavailable && <p className="p-3.5 font-serif">Not available: {cpus.data.unavailable}.</p>}
      <div className="flex flex-wrap gap-x-6 gap-y-3 px-3.5 py-3">
        {nodes.map((n) => (
          <div key={n.node}>
            {n.node >= 0 && (
              <div className="mb-1.5 text-[12.5px] font-semibold text-ink-2">
                node {n.node} · CPUs {listOf(n.cores.flat().map((c) => c.cpu))}
              </div>
            )}
            <div className="flex max-w-80 flex-wrap gap-x-1.5 gap-y-1.5">
              {n.cores.map((core) => (
                <div key={core[0]!.cpu} className="flex gap-px">
                  {core.map((c) => (
                    <Column key={c.cpu} line={c} pin={declared.get(c.cpu)} colours={colours} />
                  ))}
                </div>
              ))}
            </div>
          </div>
        ))}
      </div>
      {pins.data?.map((p) => (
        <p key={p.id} className="flex items-baseline gap-2.5 px-3.5 pb-2.5 font-serif">
          <span className={`flex-none mark-${marks[p.grade]}`} aria-hidden />
          <span>{said(p.sentence)}</span>
        </p>
      ))}
      {cpus.data?.cores && <p className="px-3.5 pb-1 text-[12.5px] text-ink-2">{cpus.data.cores.sentence}</p>}
      {waited !== '' && <p className="px-3.5 pb-2.5 text-[12.5px] text-ink-2">{waited}</p>}
    </section>
  )
}

const paints: Record<string, string> = { [kernel]: 'var(--kernel)', [untold]: 'var(--unknown)' }

/** What a CPU is declared for, and what is known of it. */
type Held = { pin: PinAudit; of: PinnedCPU }

const marks: Record<string, string> = { bad: 'bad', watch: 'watch', fine: 'info', unknown: 'info' }

type ColumnProps = { line: CPULine; pin: Held | undefined; colours: Map<string, number> }

function Column({ line: c, pin, colours }: ColumnProps) {
  const part = (seconds: number) => (c.capacity_seconds > 0 ? seconds / c.capacity_seconds : 0)
  const time = timeOf(c, pin?.pin.holder)
  const words = time.filter((t) => part(t.seconds) >= 0.001).map((t) => `${t.tenant} ${percent(part(t.seconds))}`)
  const isIntruded = pin?.of.verdict === 'intruded'
  const may = pin ? `; may run there: ${pin.of.may_run.join(', ')}${more(pin.of)}` : ''
  const declared = pin ? `; declared for ${pin.pin.holder}: ${pin.of.verdict}${may}` : ''
  const label = `CPU ${c.cpu}: ${words.join(', ') || 'idle'}${declared}`
  return (
    <div className="w-4 text-center">
      <div className={`column ${pin ? 'pinned' : ''}`} role="img" aria-label={label} title={label}>
        {time.map((t) => (
          <i
            key={t.tenant}
            style={{
              height: `${Math.min(100 * part(t.seconds), 100)}%`,
              background: paints[t.tenant] ?? tenantColour(colours.get(t.tenant) ?? 0, t.tenant),
            }}
          />
        ))}
        {isIntruded && <b className="mark-bad" />}
      </div>
      <span className="text-[10.5px] text-ink-2" aria-hidden>
        {c.cpu}
      </span>
    </div>
  )
}

function more(of: PinnedCPU): string {
  const n = of.may_run_count - of.may_run.length
  return n > 0 ? ` and ${n} more` : ''
}
