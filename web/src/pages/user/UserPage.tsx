import { Missed } from '../../figures/Missed'
import { useParams } from '@tanstack/react-router'
import { useState } from 'react'
import { useUser } from '../../api/queries'
import { HowItWent } from '../../figures/chart/HowItWent'
import { More } from '../../figures/More'
import { shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { amountText, meanText, title } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { isTold } from '../../figures/register'
import { WorkloadRows } from './WorkloadRows'

const workloadsAtOnce = 100
const hostsNamed = 8

/** One person: what they use and hold over all their jobs, sign-ins, containers and machines on all hosts. */
export function UserPage() {
  const { user } = useParams({ strict: false }) as { user: string }
  const { span } = useTime()
  const [first, setFirst] = useState(workloadsAtOnce)
  const about = useUser(span, user, first)
  if (!about.data)
    return (
      <>
        <h1 className="mb-3">{shown(user)}</h1>
        <Waiting error={about.error} what="This user’s work" />
      </>
    )
  const g = about.data
  const counts = (list: { name: string; workloads: number }[]) =>
    list.map((c) => `${c.workloads} ${shown(c.name)}${c.workloads === 1 ? '' : 's'}`).join(', ')
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-3.5">
        <h1>{shown(g.name)}</h1>
        <span className="text-ink-2">
          {counts(g.kinds)} · on{' '}
          {g.hosts
            .slice(0, hostsNamed)
            .map((h) => h.name)
            .join(', ')}
          {g.hosts.length > hostsNamed && ` and ${g.hosts.length - hostsNamed} more hosts`}
        </span>
      </div>
      <Missed by={g} />
      <section
        className="sheet mb-4.5 grid grid-cols-[repeat(auto-fit,minmax(200px,1fr))]"
        aria-label="Use of each resource"
      >
        {g.uses.filter(isTold).map((u) => (
          <div key={u.resource} className="border-r border-rule px-3.5 py-2.5 last:border-0">
            <b className="font-semibold">{title(u.resource)}</b>
            {u.mean === null || u.amount === null ? (
              <p className="text-ink-2">not available: {u.reason}</p>
            ) : (
              <p>
                <b>{meanText(u.resource as 'cpu', u.mean)}</b>
                {u.resource !== 'memory' && (
                  <span className="text-ink-2"> · {amountText(u.resource as 'cpu', u.amount)}</span>
                )}
                {u.missing > 0 && <small className="block text-ink-2">without {u.missing} that have no figure</small>}
              </p>
            )}
          </div>
        ))}
      </section>
      <HowItWent
        name={g.name}
        scope={{ where: `owner == ${JSON.stringify(g.name)}` }}
        by={['workload', 'tenant', 'host']}
      />
      <p className="mb-4">
        Holds <b>{Number(g.held.cpus.toPrecision(4))} CPUs</b>
        {g.held.memory_bytes > 0 && (
          <>
            {' '}
            and <b>{meanText('memory', g.held.memory_bytes)}</b> of memory
          </>
        )}{' '}
        by limits and allotments; of {g.held.running_workloads} running workloads {g.held.unlimited_workloads} have no
        limit of CPUs, {g.held.unlimited_memory_workloads} none of memory. Runs <b>{g.processes}</b> processes with{' '}
        <b>{g.threads}</b> threads. Accounted to {g.tenants.map((t) => shown(t.name)).join(', ')}.
      </p>
      <section className="sheet overflow-x-auto" aria-labelledby="workloads-title">
        <div className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="workloads-title">Workloads</h2>
        </div>
        <WorkloadRows lines={g.workloads} />
        <More
          what="workloads"
          shown={g.workloads.length}
          inAll={g.workloads_in_all}
          more={() => setFirst(first + workloadsAtOnce)}
        />
      </section>
    </>
  )
}
