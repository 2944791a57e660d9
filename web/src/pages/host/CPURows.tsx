import type { CPULine } from '../../api/client'
import { useCPUs } from '../../api/queries'
import { Heads } from '../../figures/Heads'
import { StackBar } from '../../figures/StackBar'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'
import { percent } from '../../figures/text'
import { Folding } from '../../figures/Folding'

/** The ledger of each logical CPU, and who ran there. */
export function CPURows({ host }: { host: string }) {
  const { span } = useTime()
  const cpus = useCPUs(span, host)
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="cpus-title">
      <div className="flex flex-wrap items-baseline gap-4 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="cpus-title">Each CPU</h2>
        <ul className="flex flex-wrap gap-4 text-[12.5px] text-ink-2" aria-label="Colours of states">
          {states.map((s) => (
            <li key={s.name} className="flex items-baseline gap-2">
              <span className="sw" style={{ background: s.colour }} />
              {s.name}
            </li>
          ))}
        </ul>
      </div>
      {cpus.data ? (
        <Folding className="min-w-200">
          <Heads columns={[['CPU', 'num'], 'Place', ['Its time', 'w-[34%]'], ['Idle', 'num'], 'Who ran there']} />
          <tbody>
            {cpus.data.cpus.map((c) => (
              <CPURow key={c.cpu} line={c} />
            ))}
          </tbody>
        </Folding>
      ) : (
        <Waiting error={cpus.error} what="The CPUs" />
      )}
    </section>
  )
}

const states: { name: string; colour: string; of: (c: CPULine) => number }[] = [
  { name: 'user', colour: 'var(--ink)', of: (c) => c.user_seconds },
  { name: 'system', colour: 'var(--ink-2)', of: (c) => c.system_seconds },
  { name: 'interrupts', colour: 'var(--kernel)', of: (c) => c.irq_seconds + c.softirq_seconds },
  { name: 'steal', colour: 'var(--amber)', of: (c) => c.steal_seconds },
  { name: 'waiting for I/O', colour: 'var(--idle)', of: (c) => c.iowait_seconds },
]

function CPURow({ line: c }: { line: CPULine }) {
  const place = [
    c.core >= 0 ? `core ${c.core}` : '',
    c.numa_node >= 0 ? `node ${c.numa_node}` : '',
    c.smt_siblings.length > 0 ? `beside ${c.smt_siblings.join(', ')}` : '',
  ].filter((s) => s !== '')
  return (
    <tr>
      <th scope="row" className="num">
        {c.cpu}
      </th>
      <td className="text-[12.5px] whitespace-nowrap text-ink-2">{place.join(' · ') || 'not known'}</td>
      <td>
        <StackBar
          thin
          label={`CPU ${c.cpu}`}
          whole={c.capacity_seconds}
          parts={states.map((s) => ({ name: s.name, value: s.of(c), colour: s.colour }))}
        />
      </td>
      <td className="num">{c.capacity_seconds > 0 ? percent(c.idle_seconds / c.capacity_seconds) : '–'}</td>
      <td className="text-[12.5px]">
        {c.shares.slice(0, 3).map((s, i) => (
          <span key={s.id}>
            {i > 0 && ', '}
            <WorkloadLink id={s.id} name={s.name} /> {percent(s.cpu_seconds / c.capacity_seconds)}
          </span>
        ))}
        {c.shares.length > 3 && <span className="text-ink-2">, {c.shares.length - 3} more</span>}
      </td>
    </tr>
  )
}
