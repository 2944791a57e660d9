import { Missed } from '../../figures/Missed'
import { useColours, useLinks } from '../../api/queries'
import { PartsWent } from '../../figures/chart/PartsWent'
import { More } from '../../figures/More'
import { TenantKey } from '../../figures/TenantKey'
import { Waiting } from '../../figures/Trouble'
import { networkRate } from '../../figures/text'
import { useState } from 'react'
import { useTime } from '../../time/useTime'
import { LinkRows } from './LinkRows'
import { UserRows } from './UserRows'

const hostsAtOnce = 25
const withinShown = 4 // interfaces of each host, the busiest
const usersAtOnce = 12

/** Every network interface, and which workload moved what. */
export function NetworkPage() {
  const { span } = useTime()
  const [first, setFirst] = useState(hostsAtOnce)
  const [users, setUsers] = useState(usersAtOnce)
  const links = useLinks(span, { first, within: withinShown, users })
  const { colours } = useColours()
  const wire = links.data?.wire
  const silent = links.data?.hosts_not_recorded ?? []
  return (
    <>
      <h1 className="mb-1.5">Network</h1>
      {wire && (
        <p className="mb-3 font-serif text-[15px]" role="status">
          The hosts received <b>{networkRate(wire.received_bytes_per_second)}</b> and sent{' '}
          <b>{networkRate(wire.sent_bytes_per_second)}</b> over the interfaces that lead off them.
        </p>
      )}
      {silent.length > 0 && (
        <p className="mb-3 font-serif text-[15px]" role="status">
          Of {silent.join(', ')} nothing was recorded in this span.
        </p>
      )}
      <Missed by={links.data} />
      <section className="sheet overflow-x-auto" aria-labelledby="links-title">
        <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="links-title">Interfaces</h2>
          <span className="text-[12.5px] text-ink-2">received and sent as the host sees it</span>
        </div>
        {links.data ? (
          <>
            <LinkRows links={links.data.interfaces} inAll={links.data.in_all.interfaces} />
            <More
              what="hosts"
              shown={Object.keys(links.data.in_all.interfaces).length}
              inAll={links.data.in_all.hosts}
              more={() => setFirst(first + hostsAtOnce)}
            />
          </>
        ) : (
          <Waiting error={links.error} what="The interfaces" />
        )}
      </section>
      <PartsWent of="interface" />
      <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="users-title">
        <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="users-title">Workloads</h2>
          <span className="text-[12.5px] text-ink-2">
            received and sent as the workload sees it: at IP level where cgroups are counted, with frames where only its
            own interfaces are
          </span>
        </div>
        {links.data ? (
          <>
            <UserRows links={links.data} colours={colours} />
            <More
              what="workloads"
              shown={links.data.workloads.length}
              inAll={links.data.in_all.workloads}
              more={() => setUsers(10 * users)}
            />
          </>
        ) : (
          <Waiting error={links.error} what="The workloads" />
        )}
        <TenantKey />
      </section>
      <p className="mt-3 max-w-200 font-serif text-[13.5px] text-ink-2">
        Interfaces count whole frames, workloads mostly their IP packets. The residual is what lies between: frame
        headers, what passes through a host, and the traffic of workloads that cannot be told apart. It is negative
        where workloads talk to each other without leaving their host, and where an interface counts what it sends
        before it is cut into frames, as those of virtual machines do.
      </p>
    </>
  )
}
