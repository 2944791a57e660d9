import type { Balance } from '../../api/client'
import { StackBar } from '../../figures/StackBar'
import { TenantKey } from '../../figures/TenantKey'
import { Waiting } from '../../figures/Trouble'
import { figure, title, unitOf, whole, cpusOf } from '../../figures/units'
import { isTold } from '../../figures/register'
import { partsOf } from '../balance/BalanceTable'

/** The ledger of every resource as bars: shares by tenant, kernel and residual, of the capacity. */
export function LedgerSheet({ balance, error }: { balance: Balance | undefined; error: Error | null }) {
  return (
    <section className="sheet" aria-labelledby="ledger-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="ledger-title">The ledger</h2>
        <span className="text-[12.5px] text-ink-2">shares + kernel + idle + residual = capacity</span>
      </div>
      {!balance && <Waiting error={error} what="The ledger" />}
      {balance?.note && (
        <p className="border-b border-rule px-3.5 py-2.5 font-serif first-letter:uppercase">{balance.note}.</p>
      )}
      {balance?.resources.map((r, index) => {
        const resource = r.resource
        if (!isTold(r)) return null
        const unit = unitOf(resource, r.capacity_mean, cpusOf('', r.capacity_mean))
        return (
          <div
            key={resource}
            className="grid grid-cols-[64px_1fr_142px] items-center gap-3.5 border-b border-rule px-3.5 py-2.5"
          >
            <b className="font-semibold">{title(resource)}</b>
            <StackBar
              label={title(resource)}
              whole={r.capacity_mean}
              parts={partsOf(balance, { index, whole: r })}
              unknown={r.used_mean === null}
            />
            <span className="text-right">
              {r.used_mean === null ? (
                <span className="text-ink-2">{r.notes?.used ?? 'not available'}</span>
              ) : (
                <>
                  {figure(r.used_mean, unit)} {r.capacity_mean !== null && `of ${whole(r.capacity_mean, unit)}`}{' '}
                  {unit.name}
                  <br />
                  <span className="text-[12.5px] text-ink-2">
                    {r.capacity_mean === null && 'capacity unknown · '}residual{' '}
                    {r.residual_mean === null
                      ? 'not available'
                      : `${figure((100 * r.residual_mean) / (r.capacity_mean || r.used_mean || 1), { name: '%', per: 1, digits: 2 })} %`}
                  </span>
                </>
              )}
            </span>
          </div>
        )
      })}
      {balance && <TenantKey only={balance.tenants.filter((t) => t.workloads > 0).map((t) => t.tenant)} />}
    </section>
  )
}
