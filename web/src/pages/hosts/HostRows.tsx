import { resources } from '../../figures/register'
import { Link } from '@tanstack/react-router'
import type { Balance, Host } from '../../api/client'
import { useBalances, useHosts } from '../../api/queries'
import { Meaning } from '../../figures/BalanceBar'
import { StackBar } from '../../figures/StackBar'
import { Waiting } from '../../figures/Trouble'
import { figure, title, unitOf, whole } from '../../figures/units'
import { loads } from '../../figures/text'
import { useTime } from '../../time/useTime'
import { partsOf } from '../balance/BalanceTable'

/** A row a host: its state, and its use of each resource by tenant, of its own capacity. */
export function HostRows() {
  const { span } = useTime()
  const hosts = useHosts()
  const balances = useBalances(span)
  if (!hosts.data) return <Waiting error={hosts.error} what="The hosts" />
  if (hosts.data.length === 0)
    return (
      <p className="p-3.5 font-serif">
        No host is enrolled. “vinescale hosts enrol NAME” prints a credential for its collector.
      </p>
    )
  const pages = balances.data?.pages ?? []
  const known = new Map(pages.flatMap((p) => p.balances.map((b) => [b.host, b] as const)))
  // Hosts are told by name, as their balances are: what comes after the last of those is not drawn yet.
  const last = balances.hasNextPage ? pages.at(-1)?.balances.at(-1)?.host : undefined
  const drawn = hosts.data.filter((h) => last === undefined || h.name <= last)
  return (
    <>
      <table className="min-w-180">
        <thead>
          <tr>
            <th scope="col">Host</th>
            {resources().map((r) => (
              <th scope="col" key={r} className="w-[19%]">
                {title(r)} {unitOf(r, null).name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {drawn.map((h) => (
            <HostRow key={h.name} host={h} balance={known.get(h.name)} />
          ))}
        </tbody>
      </table>
      {balances.hasNextPage && (
        <p className="p-3.5">
          <button
            type="button"
            className="cursor-pointer rounded-[3px] border border-rule-2 bg-paper px-3 py-1"
            onClick={() => void balances.fetchNextPage()}
          >
            Show more hosts
          </button>{' '}
          <span className="text-ink-2">
            {drawn.length} of {hosts.data.length} are shown.
          </span>
        </p>
      )}
    </>
  )
}

function HostRow({ host, balance: b }: { host: Host; balance?: Balance }) {
  const { search } = useTime()
  return (
    <tr>
      <th scope="row" className="whitespace-nowrap">
        <Link to="/hosts/$host" params={{ host: host.name }} search={search}>
          {host.name}
        </Link>
        <small className="block text-[12.5px] text-ink-2">
          {host.warming ?? (host.state === 'awaited' ? 'nothing sent yet' : `${host.cpus} CPUs · ${host.state}`)}
        </small>
        {host.load && (
          <small className="block text-[12.5px] text-ink-2">
            <Meaning meaning="Tasks that ran, were ready to run, or waited for storage, in the mean over 1, 5 and 15 minutes: to be held against the host’s CPUs.">
              load {loads(host.load)}
            </Meaning>
          </small>
        )}
      </th>
      {resources().map((r, index) => {
        const w = b?.resources[index]
        if (!w || w.used_mean === null)
          return (
            <td key={r} className="text-ink-2">
              {b ? 'not available' : '…'}
            </td>
          )
        const unit = unitOf(r, w.capacity_mean)
        return (
          <td key={r}>
            <StackBar
              thin
              label={`${title(r)} of ${host.name}`}
              whole={w.capacity_mean}
              parts={partsOf(b, { index, whole: w })}
            />
            <div className="mt-1 text-[12.5px] whitespace-nowrap">
              <b className="font-semibold">{figure(w.used_mean, unit)}</b>{' '}
              <span className="text-ink-2">
                {w.capacity_mean === null ? 'of unknown capacity' : `of ${whole(w.capacity_mean, unit)}`}
              </span>
            </div>
          </td>
        )
      })}
    </tr>
  )
}
