import { useBalance } from '../../api/queries'
import { TenantKey } from '../../figures/TenantKey'
import { useTime } from '../../time/useTime'
import { HostRows } from './HostRows'

export function HostsPage() {
  const { span } = useTime()
  const balance = useBalance(span)
  return (
    <>
      <h1 className="mb-3">Hosts</h1>
      <section className="sheet overflow-x-auto" aria-label="Hosts">
        <HostRows />
        {balance.data && <TenantKey tenants={balance.data.tenants} />}
      </section>
    </>
  )
}
