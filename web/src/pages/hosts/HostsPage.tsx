import { useState } from 'react'
import { TenantKey } from '../../figures/TenantKey'
import { HostMap } from './HostMap'
import { HostRows } from './HostRows'

/** All hosts: each with how tenants stand on it, or all of them at one glance. */
export function HostsPage() {
  const [isMap, setMap] = useState(false)
  return (
    <>
      <div className="mb-3 flex items-baseline gap-4">
        <h1>Hosts</h1>
        <button type="button" className="link" aria-pressed={isMap} onClick={() => setMap(!isMap)}>
          {isMap ? 'as a list' : 'as a map'}
        </button>
      </div>
      <section className="sheet overflow-x-auto" aria-label="Hosts">
        {isMap ? (
          <HostMap />
        ) : (
          <>
            <HostRows />
            <TenantKey />
          </>
        )}
      </section>
    </>
  )
}
