import { Head } from '../../figures/Heads'
import { resources } from '../../figures/register'
import { Link } from '@tanstack/react-router'
import { memo } from 'react'
import type { Balance, Host } from '../../api/client'
import { useHostPages } from '../../api/queries'
import { Meaning } from '../../figures/BalanceBar'
import { More } from '../../figures/More'
import { StackBar } from '../../figures/StackBar'
import { Waiting } from '../../figures/Trouble'
import { figure, title, unitOf, whole, cpusOf } from '../../figures/units'
import { loads } from '../../figures/text'
import { useTime } from '../../time/useTime'
import { partsOf } from '../balance/BalanceTable'
import { Folding } from '../../figures/Folding'

/** A row a host: its state, and its use of each resource by tenant, of its own capacity. */
export function HostRows() {
  const { span } = useTime()
  const { hosts, balances: told, error } = useHostPages(span)
  if (!hosts.data) return <Waiting error={error} what="The hosts" />
  const { pages } = hosts.data
  const inAll = pages.at(-1)!.inAll
  if (inAll === 0)
    return (
      <p className="p-3.5 font-serif">
        No host is enrolled. “vinescale hosts enrol NAME” prints a credential for its collector.
      </p>
    )
  const balances = new Map(told.map((b) => [b.host, b] as const))
  const drawn = pages.flatMap((p) => p.hosts)
  return (
    <>
      <Folding className="min-w-180">
        <thead>
          <tr>
            <Head name="Host" />
            {resources().map((r) => (
              <th scope="col" key={r} style={{ width: `${76 / resources().length}%` }}>
                {title(r)} {unitOf(r, null, cpusOf('', 1)).name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {drawn.map((h) => (
            <HostRow key={h.name} host={h} balance={balances.get(h.name)} />
          ))}
        </tbody>
      </Folding>
      <More what="hosts" shown={drawn.length} inAll={inAll} more={() => void hosts.fetchNextPage()} />
    </>
  )
}

const HostRow = memo(function HostRow({ host, balance: b }: { host: Host; balance?: Balance }) {
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
      {resources().map((r) => {
        const index = b?.resources.findIndex((x) => x.resource === r) ?? -1
        const w = b?.resources[index]
        if (!w || w.used_mean === null)
          return (
            <td key={r} className="text-ink-2">
              {b ? 'not available' : '…'}
            </td>
          )
        const unit = unitOf(r, w.capacity_mean, cpusOf(host.name, w.capacity_mean))
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
})
