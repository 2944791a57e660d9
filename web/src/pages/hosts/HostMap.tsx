import { useRouter } from '@tanstack/react-router'
import { useState, type MouseEvent } from 'react'
import { useAllHosts, useLedger } from '../../api/queries'
import { percent } from '../../figures/text'
import { Waiting } from '../../figures/Trouble'
import { meanText, title, cpusOf } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { byPool, capacityOf, plotsOf, type Of, type Order, type Plot } from './map'

/** Every host as one small bar, by pool: how much of its capacity was used. */
export function HostMap() {
  const { span, search } = useTime()
  const router = useRouter()
  const [of, setOf] = useState<Of>('cpu')
  const [order, setOrder] = useState<Order>('name')
  const hosts = useAllHosts()
  const ledger = useLedger(span, { of, by: 'host' })
  if (!hosts.data || !ledger.data) return <Waiting error={hosts.error ?? ledger.error} what="The map of hosts" />
  const pools = byPool(plotsOf(hosts.data, ledger.data.shares, of), order)
  const choice = <T extends string>(label: string, value: T, set: (v: T) => void, all: Record<T, string>) => (
    <label className="text-[12.5px]">
      {label}{' '}
      <select
        value={value}
        onChange={(e) => set(e.target.value as T)}
        className="rounded-xs border border-rule-2 bg-sheet px-1 py-0.5"
      >
        {(Object.entries(all) as [T, string][]).map(([v, words]) => (
          <option key={v} value={v}>
            {words}
          </option>
        ))}
      </select>
    </label>
  )
  // A link of the router's own for each of a thousand bars would take longer than all that is drawn.
  const asked = router.buildLocation({ to: '/hosts', search }).searchStr
  const go = (e: MouseEvent) => {
    const host = (e.target as Element).closest('a')?.dataset.host
    if (host === undefined || e.button !== 0 || e.metaKey || e.ctrlKey || e.shiftKey || e.altKey) return
    e.preventDefault()
    void router.navigate({ to: '/hosts/$host', params: { host }, search })
  }
  return (
    <div className="px-3.5 py-3" onClick={go}>
      <p className="mb-3 flex flex-wrap gap-4">
        {choice('of', of, setOf, { cpu: title('cpu'), memory: title('memory') })}
        {choice('in order of', order, setOrder, { name: 'names', part: 'use, the most first' })}
        <span className="text-[12.5px] text-ink-2">
          A bar is a host, from zero to its capacity; hatched tells nothing.
        </span>
      </p>
      {pools.map((g) => (
        <section key={g.pool} aria-label={g.pool ? `Pool ${g.pool}` : 'In no pool'} className="mb-3">
          <h2 className="mb-1 text-[13px]!">{g.pool || 'in no pool'}</h2>
          <ul className="flex flex-wrap gap-1">
            {g.plots.map((p) => (
              <li key={p.host.name}>
                <Bar of={of} plot={p} asked={asked} />
              </li>
            ))}
          </ul>
        </section>
      ))}
    </div>
  )
}

function Bar({ of, plot: p, asked }: { of: Of; plot: Plot; asked: string }) {
  const capacity = capacityOf(p.host, of)
  const words =
    p.used === null
      ? `${p.host.name}: ${p.host.state}, nothing was told`
      : `${p.host.name}: ${meanText(of, p.used, cpusOf(p.host.name, capacity))} of ${meanText(of, capacity, cpusOf(p.host.name, capacity))}` +
        (p.part === null ? '' : `, ${percent(p.part)}`) +
        `, ${p.host.state}`
  return (
    <a
      href={`/hosts/${encodeURIComponent(p.host.name)}${asked}`}
      data-host={p.host.name}
      title={words}
      aria-label={words}
      className="relative block h-9 w-6 border border-rule-2"
      style={{ background: p.used === null ? 'var(--unknown)' : 'var(--track)' }}
    >
      <span
        className="absolute inset-x-0 bottom-0"
        style={{ height: `${Math.min(100, 100 * (p.part ?? 0))}%`, background: 'var(--vine)' }}
      />
      {p.host.state !== 'reporting' && <span className="mark-bad absolute top-0.5 left-0.5" aria-hidden />}
    </a>
  )
}
