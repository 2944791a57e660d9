import { useTenants } from '../../api/queries'
import { Field, field } from './Field'
import type { PlanSearch } from './search'

/** For whom CPUs are: a tenant, a workload by its name, or whatever matches a rule. */
export function HolderFields({ of, onChange }: { of: PlanSearch; onChange: (p: Partial<PlanSearch>) => void }) {
  const tenants = useTenants().data ?? []
  return (
    <>
      <Field name="for a">
        <select
          className={field}
          value={of.kind ?? 'tenant'}
          onChange={(e) =>
            onChange({
              kind: e.target.value === 'tenant' ? undefined : (e.target.value as 'workload'),
              holder: undefined,
            })
          }
        >
          <option value="tenant">tenant</option>
          <option value="workload">workload</option>
          <option value="rule">rule</option>
        </select>
      </Field>
      <Field name={of.kind === 'rule' ? 'expression' : of.kind === 'workload' ? 'workload’s name' : 'tenant'}>
        {of.kind ? (
          <input
            className={`${field} w-56`}
            required
            placeholder={of.kind === 'rule' ? "kind == 'vm'" : 'route-solver-7c'}
            value={of.holder ?? ''}
            onChange={(e) => onChange({ holder: e.target.value })}
          />
        ) : (
          <select
            className={field}
            required
            value={of.holder ?? ''}
            onChange={(e) => onChange({ holder: e.target.value })}
          >
            <option value="" disabled>
              choose …
            </option>
            {tenants.map((t) => (
              <option key={t.name}>{t.name}</option>
            ))}
          </select>
        )}
      </Field>
    </>
  )
}
