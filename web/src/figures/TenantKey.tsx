import type { TenantBalance } from '../api/client'
import { tenantColour } from './units'

/** Which colour is whose, for figures whose parts carry no names. */
export function TenantKey({ tenants }: { tenants: TenantBalance[] }) {
  const entries = [
    ...tenants.filter((t) => t.workloads > 0).map((t) => ({ name: t.tenant, colour: tenantColour(t.colour) })),
    { name: 'residual', colour: 'var(--residual)' },
  ]
  return (
    <ul className="flex flex-wrap gap-4 px-3.5 py-2.5 text-[12.5px] text-ink-2" aria-label="Colours">
      {entries.map((e) => (
        <li key={e.name} className="flex items-baseline gap-2">
          <span className="sw" style={{ background: e.colour }} />
          {e.name === 'unassigned' ? 'unassigned and kernel' : e.name}
        </li>
      ))}
    </ul>
  )
}
