import { useUnused } from '../../api/queries'
import { said } from '../../figures/Name'
import { title, figure, unitOf } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'

/** What a tenant holds and does not use: the amounts that could be asked back, and the lines they are made of. */
export function TenantUnused({ tenant }: { tenant: string }) {
  const { span } = useTime()
  const of = useUnused(span).data?.tenants.find((t) => t.tenant === tenant)
  if (!of) return null
  const amount = (resource: string, v: number) => {
    const unit = unitOf(resource, v)
    return `${figure(v, unit)} ${unit.name}`
  }
  const sums = [
    { resource: 'cpu', v: of.cpu_cores },
    { resource: 'memory', v: of.memory_bytes },
    { resource: 'gpu', v: of.gpus },
  ].filter((s) => s.v > 0)
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="unused-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="unused-title">Held and unused</h2>
        <span className="text-[12.5px] text-ink-2">
          it could give back{' '}
          {sums.map((s, i) => (
            <span key={s.resource}>
              {i > 0 && ', '}
              <b className="text-ink">{amount(s.resource, s.v)}</b> of {title(s.resource)}
            </span>
          ))}
        </span>
      </div>
      <table>
        <thead>
          <tr>
            <th scope="col">Of</th>
            <th scope="col" className="num">
              Unused
            </th>
            <th scope="col">What</th>
            <th scope="col">Host</th>
            <th scope="col">Why</th>
          </tr>
        </thead>
        <tbody>
          {of.lines.map((l) => (
            <tr key={`${l.resource} ${l.why} ${l.id} ${l.host} ${l.sentence}`}>
              <td>{title(l.resource)}</td>
              <td className="num whitespace-nowrap">{amount(l.resource, l.unused)}</td>
              <td>{l.id > 0 ? <WorkloadLink id={l.id} name={l.name} /> : 'declared CPUs'}</td>
              <td>{l.host}</td>
              <td className="font-serif">{said(l.sentence)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
