import type { HostMemory } from '../../api/client'
import { useMemory } from '../../api/queries'
import { Meaning } from '../../figures/BalanceBar'
import { Heads } from '../../figures/Heads'
import { meaningOf } from '../../figures/words'
import { StackBar } from '../../figures/StackBar'
import { Waiting } from '../../figures/Trouble'
import { meanText } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'
import { Folding } from '../../figures/Folding'

const lines: { name: string; colour: string; of: (m: HostMemory) => number | null }[] = [
  { name: 'charged to workloads', colour: 'var(--ink)', of: (m) => m.charged_bytes },
  { name: 'kernel’s own', colour: 'var(--kernel)', of: (m) => m.kernel_bytes },
  { name: 'page cache of nobody', colour: 'var(--ink-2)', of: (m) => m.cache_bytes },
  { name: 'huge pages set aside', colour: 'var(--amber)', of: (m) => m.huge_pages_bytes },
  { name: 'residual', colour: 'var(--wine)', of: (m) => m.residual_bytes },
]

const kinds: [name: string, head: string][] = [
  ['memory_anon_bytes', 'Anonymous'],
  ['memory_file_bytes', 'File'],
  ['memory_shared_bytes', 'Shared'],
  ['memory_kernel_bytes', 'Kernel'],
  ['memory_working_set_bytes', 'Working set'],
  ['memory_high_bytes', 'Most'],
]

const shown = 10

/** A host's memory explained: what it is made of, who holds it and of which kind, who holds it asleep, and what is on swap. */
export function MemorySheet({ host }: { host: string }) {
  const { span } = useTime()
  const memory = useMemory(span, host)
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="memory-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="memory-title">Memory explained</h2>
        <span className="text-[12.5px] text-ink-2">
          charged + kernel + cache + huge pages + free + residual = capacity
        </span>
      </div>
      {memory.data ? <Explained memory={memory.data} /> : <Waiting error={memory.error} what="The memory" />}
    </section>
  )
}

function Explained({ memory: m }: { memory: HostMemory }) {
  const parts = lines.map((l) => ({ name: l.name, value: l.of(m) ?? 0, colour: l.colour }))
  return (
    <>
      <div className="border-b border-rule px-3.5 py-2.5">
        <StackBar label="Memory" whole={m.capacity_bytes} parts={parts} unknown={m.charged_bytes === null} />
        <ul className="mt-2 flex flex-wrap gap-x-5 gap-y-1 text-[12.5px] text-ink-2" aria-label="Lines of the memory">
          {lines.map((l) => (
            <li key={l.name} className="flex items-baseline gap-2">
              <span className="sw" style={{ background: l.colour }} />
              {l.name} <span className="text-ink">{text(l.of(m))}</span>
            </li>
          ))}
          <li>
            free <span className="text-ink">{text(m.free_bytes)}</span>
          </li>
        </ul>
      </div>
      <Folding className="min-w-220">
        <Heads
          columns={[
            'Held by',
            ['Charged', 'num'],
            ...kinds.map(([, head]) => [head, 'num'] as const),
            'On swap',
            'Source',
          ]}
        />
        <tbody>
          {m.workloads.slice(0, shown).map((w) => (
            <tr key={w.id}>
              <th scope="row">
                <WorkloadLink id={w.id} name={w.name} />
                {w.asleep && (
                  <small className="block text-[12.5px] font-normal text-wine">asleep for {slept(w.asleep)}</small>
                )}
              </th>
              <td className="num">{text(w.charged_bytes)}</td>
              {kinds.map(([name]) => (
                <td key={name} className="num">
                  {text(w.figures.find((f) => f.name === name)?.value ?? null)}
                </td>
              ))}
              <td className="text-[12.5px]">
                {w.swap_on.map((s) => (
                  <span key={s.swap} className="block">
                    {text(s.bytes)} <span className="text-ink-2">{s.swap}</span>
                  </span>
                ))}
              </td>
              <td className="text-[12.5px] text-ink-2">
                <Meaning meaning={meaningOf(w.source)}>{w.source}</Meaning>
              </td>
            </tr>
          ))}
        </tbody>
      </Folding>
      <p className="px-3.5 py-2.5 text-[12.5px] text-ink-2">
        {m.workloads.length > shown && `${m.workloads.length - shown} more hold less. `}
        {m.swaps.map((s) => `Swap on ${s.name}: ${text(s.used_bytes)} of ${text(s.size_bytes)} in use now. `).join('')}
        {m.notes.map((n) => `${n.charAt(0).toUpperCase()}${n.slice(1)}. `).join('')}–: not counted for this workload.
      </p>
    </>
  )
}

/** For how long, in minutes up to two hours. */
function slept(s: NonNullable<HostMemory['workloads'][number]['asleep']>): string {
  const long = s.minutes < 120 ? `${s.minutes.toFixed(0)} min` : `${(s.minutes / 60).toFixed(0)} h`
  return s.longer ? `${long} or longer` : long
}

function text(v: number | null): string {
  return v === null ? '–' : meanText('memory', v)
}
