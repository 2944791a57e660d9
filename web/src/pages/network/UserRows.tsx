import type { Links } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { Heads } from '../../figures/Heads'
import { meaningOf } from '../../figures/words'
import { networkRate } from '../../figures/text'
import { tenantColour } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { Folding } from '../../figures/Folding'

/** Who moved what, and the sums that hold workloads to interfaces. */
export function UserRows({ links, colours }: { links: Links; colours: Map<string, number> }) {
  const sums = [
    { name: 'All workloads', of: links.ip, className: 'sum' },
    { name: 'Interfaces that lead off', of: links.wire, className: 'soft' },
    { name: 'Residual', of: links.residual, className: 'soft' },
  ].flatMap(({ of, ...s }) => (of ? [{ ...s, of }] : []))
  return (
    <>
      <Folding className="min-w-180">
        <Heads
          columns={[
            'Workload',
            'Tenant',
            'Host',
            ['Received', 'num'],
            ['Sent', 'num'],
            ['Over loopback', 'num'],
            'Source',
          ]}
        />
        <tbody>
          {links.workloads.map((u) => (
            <tr key={u.id}>
              <th scope="row">
                <WorkloadLink id={u.id} name={u.name} />
              </th>
              <td>
                <span className="sw" style={{ background: tenantColour(colours.get(u.tenant) ?? 0, u.tenant) }} />{' '}
                {u.tenant}
              </td>
              <td>{u.host}</td>
              <td className="num">{networkRate(u.received_bytes_per_second)}</td>
              <td className="num">{networkRate(u.sent_bytes_per_second)}</td>
              <td className="num">
                {u.local_bytes_per_second === null ? (
                  <Meaning meaning="This host does not tell loopback apart for this workload.">–</Meaning>
                ) : (
                  networkRate(u.local_bytes_per_second)
                )}
              </td>
              <td className="text-[12.5px] text-ink-2">
                <Meaning meaning={meaningOf(u.source)}>{u.source}</Meaning>
              </td>
            </tr>
          ))}
        </tbody>
        <tbody>
          {sums.map((s) => (
            <tr key={s.name} className={s.className}>
              <th scope="row" colSpan={3}>
                {s.name}
              </th>
              <td className="num">{signed(s.of.received_bytes_per_second)}</td>
              <td className="num">{signed(s.of.sent_bytes_per_second)}</td>
              <td colSpan={2} />
            </tr>
          ))}
        </tbody>
      </Folding>
      {links.in_all.not_counted > 0 && (
        <p className="px-3.5 py-2.5 text-[12.5px] text-ink-2">
          Of {links.in_all.not_counted} more the network is not available, because they share their host’s and nothing
          there counts by cgroup.
        </p>
      )}
    </>
  )
}

/** A rate that may be below nothing. */
function signed(v: number): string {
  return v < 0 ? `−${networkRate(-v)}` : networkRate(v)
}
