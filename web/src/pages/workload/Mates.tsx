import { Head } from '../../figures/Heads'
import type { AboutWorkload } from '../../api/client'
import { shown } from '../../figures/Name'
import { amountText } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'

/** Who else used the same CPUs or disks, most first. */
export function Mates({
  title,
  unit,
  mates,
}: {
  title: string
  unit: string
  mates: AboutWorkload['shares_cpus_with']
}) {
  if (mates.length === 0) return null
  return (
    <section className="sheet overflow-x-auto" aria-label={title}>
      <table>
        <thead>
          <tr>
            <th scope="col">{title}</th>
            <Head name="Tenant" />
            <th scope="col" className="num">
              {unit === 'cpu' ? 'CPU time there' : 'Moved'}
            </th>
            <Head name="Source" />
          </tr>
        </thead>
        <tbody>
          {mates.map((m) => (
            <tr key={m.id}>
              <th scope="row">
                <WorkloadLink id={m.id} name={m.name} /> <span className="text-[12.5px] text-ink-2">{m.kind}</span>
              </th>
              <td>{shown(m.tenant)}</td>
              <td className="num">{amountText(unit, m.amount)}</td>
              <td>{m.source}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
