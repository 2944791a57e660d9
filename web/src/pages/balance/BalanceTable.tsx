import { Head } from '../../figures/Heads'
import type { Unit } from '../../figures/units'
import { entry, isTold } from '../../figures/register'
import { Link } from '@tanstack/react-router'
import type { Balance, ResourceBalance, ResourceUse, TenantBalance } from '../../api/client'
import { BalanceBar, Meaning } from '../../figures/BalanceBar'
import { Stand } from '../../figures/Stand'
import { StackBar } from '../../figures/StackBar'
import { figure, roundScale, tenantColour, title, unitOf, whole, cpusOf } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { Folding } from '../../figures/Folding'

type Column = { resource: string; unit: Unit; scale: number; whole: ResourceBalance; index: number }

const unassigned = 'unassigned'

/** The table is the chart: a row a tenant, a column a resource, and the lines that make each column add up. */
export function BalanceTable({ balance }: { balance: Balance }) {
  const tenants = balance.tenants.filter((t) => t.tenant !== unassigned)
  const rest = balance.tenants.find((t) => t.tenant === unassigned)
  const all: Column[] = balance.resources.map((r, index) => {
    const resource = r.resource
    const unit = unitOf(resource, r.capacity_mean, cpusOf('all hosts', r.capacity_mean))
    const largest = Math.max(
      0,
      ...tenants.flatMap((t) => [t.uses[index]?.quota ?? 0, t.uses[index]?.peak_minute_mean ?? 0]),
    )
    return { resource, unit, index, whole: r, scale: roundScale(largest * 1.04, unit) }
  })
  const columns = all.filter(isTold)
  return (
    <Folding className="min-w-180">
      <thead>
        <tr>
          <Head name="Tenant" />
          {columns.map((c) => (
            <th scope="col" key={c.resource} style={{ width: `${76 / columns.length}%` }}>
              <Meaning
                meaning={`${entry(c.resource).meaning} Bars in this column run from 0 to ${whole(c.scale, c.unit)} ${c.unit.name}.`}
              >
                <span className="text-ink">{title(c.resource)}</span> {c.unit.name}
                {c.whole.capacity_mean !== null && ` of ${whole(c.whole.capacity_mean, c.unit)}`}
              </Meaning>
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        <tr>
          <th scope="row">
            <b className="font-semibold">All tenants</b>
            <small className="block text-[12.5px] text-ink-2">the fleet, weighed</small>
          </th>
          {columns.map((c) => (
            <td key={c.resource}>
              <StackBar
                label={`${title(c.resource)} of the fleet`}
                whole={c.whole.capacity_mean}
                parts={partsOf(balance, c)}
                unknown={c.whole.used_mean === null}
              />
            </td>
          ))}
        </tr>
        {rest && <RestRow rest={rest} columns={columns} />}
        {tenants.map((t) => (
          <TenantRow key={t.tenant} tenant={t} columns={columns} />
        ))}
        <Line
          name="Kernel"
          meaning="Interrupts, kernel threads, the kernel’s own memory and page cache that no workload is charged with."
          columns={columns}
          of={(r) => r.kernel_mean}
          note="kernel"
        />
        {balance.resources.some((r) => (r.steal_mean ?? 0) > 0) && (
          <Line
            name="Steal"
            meaning="CPU time that the hypervisor gave to others."
            columns={columns}
            of={(r) => r.steal_mean}
            note="steal"
          />
        )}
        <Line name="Idle" meaning="Capacity that nobody used." columns={columns} of={(r) => r.idle_mean} note="idle" />
        <Line
          name="Residual"
          meaning="Counted on the host but charged to nobody: what ended between two readings, or cannot be told apart. It makes the column add up, and is always shown."
          swatch
          columns={columns}
          of={(r) => r.residual_mean}
          note="residual"
          percent
        />
        <Line
          name="Capacity"
          meaning="Tenants, unassigned, kernel, steal, idle and residual add up to it."
          sum
          columns={columns}
          of={(r) => r.capacity_mean}
          note="capacity"
        />
      </tbody>
    </Folding>
  )
}

/** The parts of a column's whole, by tenant and line, for the stacked bar. */
export function partsOf(balance: Balance, c: { index: number; whole: ResourceBalance }) {
  return [
    ...balance.tenants.map((t) => ({
      name: t.tenant,
      value: t.uses[c.index]?.used_mean ?? 0,
      colour: tenantColour(t.colour, t.tenant),
    })),
    { name: 'kernel', value: (c.whole.kernel_mean ?? 0) + (c.whole.steal_mean ?? 0), colour: 'var(--kernel)' },
    { name: 'residual', value: c.whole.residual_mean ?? 0, colour: 'var(--residual)' },
  ]
}

function TenantRow({ tenant, columns }: { tenant: TenantBalance; columns: Column[] }) {
  const { search } = useTime()
  const colour = tenantColour(tenant.colour, tenant.tenant)
  return (
    <tr>
      <th scope="row" className="whitespace-nowrap">
        <span className="flex items-baseline gap-2">
          <span className="sw" style={{ background: colour }} />
          <span>
            <Link to="/tenants/$tenant" params={{ tenant: tenant.tenant }} search={search}>
              {tenant.tenant}
            </Link>
            <small className="block text-[12.5px] text-ink-2">
              {tenant.workloads === 1 ? '1 workload' : `${tenant.workloads} workloads`}
            </small>
          </span>
        </span>
      </th>
      {columns.map((c) => (
        <td key={c.resource}>
          <Use
            use={tenant.uses[c.index]!}
            column={c}
            colour={colour}
            label={`${tenant.tenant}, ${title(c.resource)}`}
          />
        </td>
      ))}
    </tr>
  )
}

function Use({ use, column, colour, label }: { use: ResourceUse; column: Column; colour: string; label: string }) {
  const { unit } = column
  return (
    <>
      <BalanceBar
        label={label}
        unit={unit}
        scale={column.scale}
        colour={colour}
        used={use.used_mean}
        peak={use.peak_minute_mean}
        quota={use.quota}
        soft={use.soft}
        changed={!!use.terms}
        reason={use.reason}
      />
      <div className="flex justify-between gap-2 text-[12.5px] whitespace-nowrap">
        {use.used_mean === null ? (
          <span className="text-ink-2">not available</span>
        ) : (
          <span>
            <b className="font-semibold">{figure(use.used_mean, unit)}</b>{' '}
            {use.quota !== null && <span className="text-ink-2">of {whole(use.quota, unit)}</span>}
          </span>
        )}
        <Stand use={use} unit={unit} />
      </div>
    </>
  )
}

function RestRow({ rest, columns }: { rest: TenantBalance; columns: Column[] }) {
  const { search } = useTime()
  return (
    <tr className="soft">
      <th scope="row" className="whitespace-nowrap">
        <Link to="/tenants/$tenant" params={{ tenant: unassigned }} search={search} className="underline">
          Unassigned
        </Link>{' '}
        {rest.workloads === 1 ? '1 workload' : `${rest.workloads} workloads`}
        {rest.workloads > 0 && (
          <>
            {' · '}
            <Link to="/rules" search={search} className="underline">
              assign
            </Link>
          </>
        )}
      </th>
      {columns.map((c) => {
        const use = rest.uses[c.index]!
        return (
          <td key={c.resource} className="num">
            {use.used_mean === null ? (
              <Meaning meaning={`Not available: ${use.reason}.`}>not available</Meaning>
            ) : (
              figure(use.used_mean, c.unit)
            )}
          </td>
        )
      })}
    </tr>
  )
}

type LineProps = {
  name: string
  meaning: string
  note: string
  columns: Column[]
  of: (r: ResourceBalance) => number | null
  sum?: boolean
  percent?: boolean
  swatch?: boolean
}

function Line({ name, meaning, note, columns, of, sum, percent, swatch }: LineProps) {
  return (
    <tr className={sum ? 'sum' : 'soft'}>
      <th scope="row" className="whitespace-nowrap">
        {swatch && <span className="sw mr-2" style={{ background: 'var(--residual)' }} />}
        <Meaning meaning={meaning}>{name}</Meaning>
      </th>
      {columns.map((c) => {
        const v = of(c.whole)
        const capacity = c.whole.capacity_mean
        if (v === null)
          return (
            <td key={c.resource} className="num">
              {note === 'steal' ? (
                '–'
              ) : (
                <Meaning meaning={`Not available: ${c.whole.notes?.[note] ?? 'no figure was recorded'}.`}>
                  not available
                </Meaning>
              )}
            </td>
          )
        return (
          <td key={c.resource} className="num">
            {figure(v, c.unit)}
            {percent && capacity !== null && capacity > 0 && (
              <span className="ml-2">{figure((100 * v) / capacity, { name: '%', per: 1, digits: 2 })} %</span>
            )}
          </td>
        )
      })}
    </tr>
  )
}
