import { memory } from '../../figures/text'
import { Missed } from '../../figures/Missed'
import { useBalance, usePins, useUnheard } from '../../api/queries'
import { isTold } from '../../figures/register'
import { Waiting } from '../../figures/Trouble'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { HostRows } from '../hosts/HostRows'
import { BalanceTable } from './BalanceTable'
import { HowToRead } from './HowToRead'
import { HowItWent } from '../../figures/chart/HowItWent'
import { ShortSheet } from './ShortSheet'
import { NeedsYou } from './NeedsYou'
import { needsOf } from './needs'

/** From how many resources on what needs the administrator stands above the table, which then takes all the width. */
const mostBesideNeeds = 5

/** The fleet's balance: each tenant's use of each resource against its quota and the capacity. */
export function BalancePage() {
  const { span } = useTime()
  const balance = useBalance(span)
  const unheard = useUnheard()
  const pins = usePins(span)
  const b = balance.data
  const capacity = (r: string) => b?.resources.find((x) => x.resource === r)?.capacity_mean ?? null
  const cpu = capacity('cpu')
  const bytes = capacity('memory')
  const isWide = (b?.resources.filter(isTold).length ?? 0) > mostBesideNeeds
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-3.5">
        <h1>Balance of the fleet</h1>
        {b && (
          <span className="text-ink-2">
            {b.hosts} hosts{cpu !== null && ` · ${Math.round(cpu)} cores`}
            {bytes !== null && ` · ${memory(bytes)}`} · {b.workloads} workloads
          </span>
        )}
        <span className="ml-auto flex gap-4">
          <a href={`/api/v1/balance?${new URLSearchParams(queryOf(span))}`} download="balance.json">
            export
          </a>
        </span>
      </div>
      <Missed by={b} />
      {b?.note && <p className="mb-3 font-serif first-letter:uppercase">{b.note}.</p>}
      <div className={`grid items-start gap-4.5 ${isWide ? '' : 'grid-cols-[1fr_300px] max-xl:grid-cols-1'}`}>
        <section className={`sheet overflow-x-auto ${isWide ? 'order-2' : ''}`} aria-label="Balance by tenant">
          {b ? <BalanceTable balance={b} /> : <Waiting error={balance.error} what="The balance" />}
        </section>
        <NeedsYou needs={b ? needsOf(b, pins.data ?? [], unheard.data) : null} across={isWide} />
      </div>
      <HowToRead />
      <HowItWent name="the fleet" scope={{}} by={['tenant', 'user', 'host']} capacityOf="the capacity of all hosts" />
      <ShortSheet short={b?.short ?? []} />
      <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="hosts-title">
        <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="hosts-title">The hosts under it</h2>
          <span className="text-[12.5px] text-ink-2">each host’s use by tenant, of its own capacity</span>
        </div>
        <HostRows />
      </section>
    </>
  )
}
