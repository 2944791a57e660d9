import { Missed } from '../../figures/Missed'
import { isTold, resources } from '../../figures/register'
import { useParams } from '@tanstack/react-router'
import { useState } from 'react'
import { useBalance, useColours, useLedger } from '../../api/queries'
import { Stand } from '../../figures/Stand'
import { QuotaSheet } from './QuotaSheet'
import { TenantPeople } from './TenantPeople'
import { TenantPins } from './TenantPins'
import { TenantStatements } from './TenantStatements'
import { TenantUnused } from './TenantUnused'
import { EventSheet } from '../../figures/EventSheet'
import { HowItWent } from '../../figures/chart/HowItWent'
import { BalanceBar } from '../../figures/BalanceBar'
import { More } from '../../figures/More'
import { ResourceTabs } from '../../figures/ResourceTabs'
import { ShareTable } from '../../figures/ShareTable'
import { Waiting } from '../../figures/Trouble'
import { figure, roundScale, tenantColour, title, unitOf, whole, cpusOf } from '../../figures/units'
import { useTime } from '../../time/useTime'

const workloadsAtOnce = 100

/** One tenant: its use against its quotas, and its workloads on all hosts. */
export function TenantPage() {
  const { tenant } = useParams({ strict: false }) as { tenant: string }
  const { span } = useTime()
  const [of, setOf] = useState(() => resources()[0] ?? '')
  const balance = useBalance(span)
  const [first, setFirst] = useState(workloadsAtOnce)
  const ledger = useLedger(span, { of, by: 'workload', tenant, first })
  const row = balance.data?.tenants.find((t) => t.tenant === tenant)
  const { colours } = useColours()
  const inAll = ledger.data ? ledger.data.shares.length + (ledger.data.left_out ?? 0) : 0
  return (
    <>
      <h1 className="mb-3 flex items-baseline gap-2.5">
        <span className="sw" style={{ background: tenantColour(row?.colour ?? 0, tenant) }} />
        {tenant === 'unassigned' ? 'Unassigned' : tenant}
      </h1>
      {balance.data && !row && <p className="font-serif">There is no tenant of this name.</p>}
      <Missed by={balance.data} />
      {row && (
        <section
          className="sheet mb-4.5 grid grid-cols-[repeat(auto-fit,minmax(170px,1fr))]"
          aria-label="Use against quotas"
        >
          {row.uses.map((u, i) => {
            const resource = u.resource
            if (!isTold(u)) return null
            const capacity = balance.data!.resources[i]?.capacity_mean ?? null
            const unit = unitOf(resource, capacity, cpusOf('all hosts', capacity))
            const scale = roundScale(1.04 * Math.max(u.quota ?? 0, u.peak_minute_mean ?? 0), unit)
            return (
              <div key={resource} className="border-r border-rule px-3.5 py-2.5 last:border-0">
                <b className="font-semibold">{title(resource)}</b> <span className="text-ink-2">{unit.name}</span>
                <BalanceBar
                  label={`${tenant}, ${title(resource)}`}
                  unit={unit}
                  scale={scale}
                  colour={tenantColour(row.colour, tenant)}
                  used={u.used_mean}
                  peak={u.peak_minute_mean}
                  quota={u.quota}
                  soft={u.soft}
                  changed={!!u.terms}
                  reason={u.reason}
                />
                <div className="flex justify-between text-[12.5px]">
                  {u.used_mean === null ? (
                    <span className="text-ink-2">not available</span>
                  ) : (
                    <span>
                      <b>{figure(u.used_mean, unit)}</b>{' '}
                      <span className="text-ink-2">{u.quota === null ? 'no quota' : `of ${whole(u.quota, unit)}`}</span>
                    </span>
                  )}
                  <Stand use={u} unit={unit} />
                </div>
              </div>
            )
          })}
        </section>
      )}
      {row && (
        <HowItWent
          name={tenant}
          scope={{ tenant }}
          by={['workload', 'user', 'host']}
          bounds={(resource) => {
            const quota = row.uses.find((u) => u.resource === resource)?.quota
            return quota ? [{ name: 'its quota', value: quota }] : []
          }}
        />
      )}
      {balance.data && row && tenant !== 'unassigned' && (
        <QuotaSheet
          tenant={tenant}
          stands={balance.data.stands.filter((s) => s.tenant === tenant)}
          allowances={balance.data.allowances.filter((a) => a.tenant === tenant)}
        />
      )}
      {row && <EventSheet name={tenant} of={{ tenant }} />}
      {row && <TenantPins tenant={tenant} />}
      {row && <TenantUnused tenant={tenant} />}
      {row && <TenantPeople tenant={tenant} of={of} />}
      {row && <TenantStatements tenant={tenant} />}
      <section className="sheet overflow-x-auto" aria-labelledby="workloads-title">
        <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="workloads-title">Workloads</h2>
          {ledger.data && <span className="text-[12.5px] text-ink-2">{inAll} on all hosts</span>}
          <ResourceTabs value={of} onChange={setOf} />
        </div>
        {ledger.data ? (
          <>
            <ShareTable ledger={ledger.data} colours={colours} withHost />
            <More
              what="workloads"
              shown={ledger.data.shares.length}
              inAll={inAll}
              more={() => setFirst(first + workloadsAtOnce)}
            />
          </>
        ) : (
          <Waiting error={ledger.error} what="The workloads" />
        )}
      </section>
    </>
  )
}
