import { useState } from 'react'
import { choices } from '../choices/choices'
import { Explained } from './Heads'
import { inOrder } from './listing'
import { Link } from '@tanstack/react-router'
import type { Ledger, Share } from '../api/client'
import { useTime } from '../time/useTime'
import { ActButton, useMayAct } from './act/ActButton'
import { shown } from './Name'
import { Source } from './Source'
import { WorkloadLink } from './WorkloadLink'
import { figure, tenantColour, unitOf, cpusOf } from './units'
import { Folding } from './Folding'

/** A ledger's shares as a table, largest first unless sorted by a column, each with its source. */
export function ShareTable({
  ledger,
  colours,
  withHost,
}: {
  ledger: Ledger
  colours: Map<string, number>
  withHost?: boolean
}) {
  const { search } = useTime()
  const unit = unitOf(ledger.resource, ledger.capacity, cpusOf(ledger.host, ledger.cpus))
  const [by, setBy] = useState<{ head: string; isUp: boolean } | null>(null)
  const columns: { head: string; of: (s: Share) => string | number | null | undefined; isFigure?: boolean }[] = [
    { head: 'Workload', of: (s) => s.name },
    withHost ? { head: 'Host', of: (s) => s.host } : { head: 'Tenant', of: (s) => s.tenant },
    { head: 'Owner', of: (s) => s.owner },
    { head: `Mean ${unit.name}`, of: (s) => s.mean, isFigure: true },
    { head: 'Highest tick', of: (s) => s.peak, isFigure: true },
    { head: withHost ? '% of the fleet' : '% of the host', of: (s) => s.amount, isFigure: true },
    { head: 'Source', of: (s) => s.source },
  ]
  const of = columns.find((c) => c.head === by?.head)?.of
  // What is not known comes last either way.
  const shares =
    of && by
      ? [...ledger.shares].sort((a, b) => {
          const [x, y] = [of(a) ?? null, of(b) ?? null]
          if (x === null || y === null) return Number(x === null) - Number(y === null)
          return by.isUp ? inOrder(x, y) : inOrder(y, x)
        })
      : ledger.shares
  const mayAct = useMayAct() && ledger.shares.some((s) => s.workload_id)
  return (
    <Folding className="min-w-160">
      <thead>
        <tr>
          {columns.map((c) => (
            <th
              key={c.head}
              scope="col"
              className={c.isFigure ? 'num' : undefined}
              aria-sort={by?.head === c.head ? (by.isUp ? 'ascending' : 'descending') : undefined}
            >
              <Explained by={[c.head]}>
                <button
                  type="button"
                  className="cursor-pointer font-[inherit] hover:underline"
                  onClick={() => setBy({ head: c.head, isUp: by?.head === c.head ? !by.isUp : !c.isFigure })}
                >
                  {c.head}
                  {by?.head === c.head && <span aria-hidden>{by.isUp ? ' ↑' : ' ↓'}</span>}
                </button>
              </Explained>
            </th>
          ))}
          {mayAct && <ActsHead />}
        </tr>
      </thead>
      <tbody>
        {shares.map((s) => (
          <tr key={s.workload_id ?? `${s.host}/${s.kind}/${s.name}/${s.owner}`}>
            <th scope="row">
              {s.workload_id ? <WorkloadLink id={s.workload_id} name={s.name} /> : shown(s.name)}{' '}
              <span className="text-[12.5px] text-ink-2">{s.kind}</span>
            </th>
            <td>
              {withHost ? (
                <Link to="/hosts/$host" params={{ host: s.host ?? '' }} search={search}>
                  {s.host}
                </Link>
              ) : (
                <span className="flex items-baseline gap-2">
                  <span
                    className="sw"
                    style={{ background: tenantColour(colours.get(s.tenant ?? '') ?? 0, s.tenant) }}
                  />
                  {s.tenant}
                </span>
              )}
            </td>
            <td>
              <Owner name={s.owner} />
            </td>
            <Figures share={s} ledger={ledger} />
            {mayAct && (
              <td>
                {s.workload_id && s.kind !== 'kernel' && (
                  <ActButton
                    aim={{ form: 'workload', id: s.workload_id, name: s.name, kind: s.kind ?? '', host: s.host ?? '' }}
                  />
                )}
              </td>
            )}
          </tr>
        ))}
        {ledger.warming?.map((w) => (
          <tr key={w.workload_id}>
            <th scope="row">
              <WorkloadLink id={w.workload_id} name={w.name} />{' '}
              <span className="text-[12.5px] text-ink-2">{w.kind}</span>
            </th>
            <td>{withHost ? w.host : w.tenant}</td>
            <td>
              <Owner name={w.owner} />
            </td>
            <td colSpan={mayAct ? 5 : 4} className="text-ink-2">
              first reading, usage in {Math.ceil(w.due_in_seconds)} s
            </td>
          </tr>
        ))}
      </tbody>
    </Folding>
  )
}

/** The head of the column that has what can be done. */
export function ActsHead() {
  return (
    <th scope="col">
      <span className="sr-only">Acts</span>
    </th>
  )
}

/** A user's name, and the way to all that is theirs. */
export function Owner({ name }: { name: string }) {
  const { search } = useTime()
  if (!name) return <>not known</>
  return (
    <Link to="/users/$user" params={{ user: name }} search={search}>
      {shown(name)}
    </Link>
  )
}

function Figures({ share: s, ledger }: { share: Share; ledger: Ledger }) {
  const unit = unitOf(ledger.resource, ledger.capacity, cpusOf(ledger.host, ledger.cpus))
  const source = (
    <td>
      <Source source={s.source} reason={s.reason} means={ledger.means} kind={s.kind} caveats={ledger.caveats} />
    </td>
  )
  if (s.amount === null || s.mean === null)
    return (
      <>
        <td className="num text-ink-2">–</td>
        <td className="num text-ink-2">–</td>
        <td className="num text-ink-2">–</td>
        {source}
      </>
    )
  return (
    <>
      <td className="num">
        {figure(s.mean, choices().decimals === null ? { ...unit, digits: unit.digits + 1 } : unit)}
      </td>
      <td className="num text-ink-2">{s.peak === undefined || s.peak === null ? '–' : figure(s.peak, unit)}</td>
      <td className="num">
        {ledger.capacity ? `${figure((100 * s.amount) / ledger.capacity, { name: '%', per: 1, digits: 1 })} %` : '–'}
      </td>
      {source}
    </>
  )
}
