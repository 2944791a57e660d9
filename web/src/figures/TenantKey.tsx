import { useColours } from '../api/queries'
import { tenantColour } from './units'

/** Which colour is whose, for figures whose parts carry no names. */
export function TenantKey({ only }: { only?: string[] }) {
  const { tenants } = useColours()
  const entries = [
    ...tenants
      .filter((t) => only === undefined || only.includes(t.name))
      .map((t) => ({ name: t.name, colour: tenantColour(t.colour, t.name) })),
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
