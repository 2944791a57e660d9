import { Head } from '../../figures/Heads'
import { isTold, resources } from '../../figures/register'
import { Link } from '@tanstack/react-router'
import type { WorkloadLine } from '../../api/client'
import { shown } from '../../figures/Name'
import { meanText, title } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { Folding } from '../../figures/Folding'

/** Workloads of several hosts with their means; what was just seen says when its usage will be known. */
export function WorkloadRows({ lines }: { lines: WorkloadLine[] }) {
  const { search } = useTime()
  return (
    <Folding className="min-w-180">
      <thead>
        <tr>
          <Head name="Workload" />
          <Head name="Tenant" />
          <Head name="Host" />
          {resources().map((r) => (
            <th scope="col" className="num" key={r}>
              {title(r)}
            </th>
          ))}
          <Head name="State" />
        </tr>
      </thead>
      <tbody>
        {lines.map((w) => (
          <tr key={w.id}>
            <th scope="row">
              <WorkloadLink id={w.id} name={w.name} /> <span className="text-[12.5px] text-ink-2">{w.kind}</span>
            </th>
            <td>{shown(w.tenant)}</td>
            <td>
              <Link to="/hosts/$host" params={{ host: w.host }} search={search}>
                {w.host}
              </Link>
            </td>
            {w.uses.filter(isTold).map((u) => (
              <td className="num" key={u.resource} title={u.reason}>
                {u.mean === null ? '–' : meanText(u.resource, u.mean)}
              </td>
            ))}
            <td>{w.state}</td>
          </tr>
        ))}
      </tbody>
    </Folding>
  )
}
