import { TenantKey } from '../../figures/TenantKey'
import { HostRows } from './HostRows'

export function HostsPage() {
  return (
    <>
      <h1 className="mb-3">Hosts</h1>
      <section className="sheet overflow-x-auto" aria-label="Hosts">
        <HostRows />
        <TenantKey />
      </section>
    </>
  )
}
