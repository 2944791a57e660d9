import { memory } from '../../figures/text'
import { Missed } from '../../figures/Missed'
import { inSentence } from '../../figures/units'
import { resources } from '../../figures/register'
import { useParams } from '@tanstack/react-router'
import { useEffect, useState } from 'react'
import { useBalance, useColours, useHost, useLedger } from '../../api/queries'
import { Meaning } from '../../figures/BalanceBar'
import { ResourceTabs } from '../../figures/ResourceTabs'
import { ShareTable } from '../../figures/ShareTable'
import { loads } from '../../figures/text'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'
import { EventSheet } from '../../figures/EventSheet'
import { PlacementSheet } from '../../figures/chart/PlacementSheet'
import { HowItWent } from '../../figures/chart/HowItWent'
import { CPUMap } from './CPUMap'
import { CPURows } from './CPURows'
import { EffectiveSheet } from './EffectiveSheet'
import { GPUSheet } from './GPUSheet'
import { Later } from '../../figures/Later'
import { LedgerLines } from './LedgerLines'
import { LedgerSheet } from './LedgerSheet'
import { MachineSheet } from './MachineSheet'
import { MemorySheet } from './MemorySheet'
import { PinSheet } from './PinSheet'
import { PartsWent } from '../../figures/chart/PartsWent'
import { SensorSheet } from './SensorSheet'
import { ServiceSheet } from './ServiceSheet'

const modes: Record<string, string> = {
  v1: 'cgroup v1',
  hybrid: 'cgroup v1 with a v2 tree beside it',
  v2: 'cgroup v2',
}

/** One host: its ledger of every resource, and its workloads. */
export function HostPage() {
  const { host } = useParams({ strict: false }) as { host: string }
  const { span } = useTime()
  const [of, setOf] = useState(() => resources()[0] ?? '')
  const balance = useBalance(span, host)
  const ledger = useLedger(span, { of, by: 'workload', host })
  const facts = useHost(span, host).data
  const { colours } = useColours()
  return (
    <>
      <div className="mb-1.5 flex flex-wrap items-baseline gap-3.5">
        <h1>{host}</h1>
        {facts && (
          <span className="text-ink-2">
            {modes[facts.cgroup_mode] ?? 'nothing sent yet'}
            {span.live ? ` · ${facts.state}` : ''}
          </span>
        )}
      </div>
      {facts && facts.cpus > 0 && (
        <p className="mb-4 flex flex-wrap gap-6">
          <span>
            <b>{facts.cpus}</b> CPUs
          </span>
          <span>
            <b>{memory(facts.memory_bytes)}</b> memory
          </span>
          {facts.load && (
            <span>
              <Meaning meaning="Tasks that ran, were ready to run, or waited for storage, in the mean over 1, 5 and 15 minutes until the newest figures: to be held against the CPUs.">
                load <b>{loads(facts.load)}</b>
              </Meaning>
            </span>
          )}
          {balance.data && (
            <span>
              <b>{balance.data.workloads}</b> workloads of{' '}
              <b>{balance.data.tenants.filter((t) => t.workloads > 0 && t.tenant !== 'unassigned').length}</b> tenants
            </span>
          )}
        </p>
      )}
      <Missed by={balance.data} />
      <Sections />
      <div className="grid grid-cols-[11fr_10fr] items-start gap-4.5 max-lg:grid-cols-1">
        <CPUMap host={host} colours={colours} />
        <LedgerSheet balance={balance.data} error={balance.error} />
      </div>
      <Later>
        <HowItWent name={host} scope={{ host }} by={['tenant', 'workload', 'user']} capacityOf="the host’s capacity" />
        <PlacementSheet host={host} />
        <PartsWent of="drive" host={host} />
        <PartsWent of="interface" host={host} />
        <EventSheet name={host} of={{ host }} />
        <PinSheet host={host} />
        <EffectiveSheet host={host} />
        <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="workloads-title">
          <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
            <h2 id="workloads-title">Workloads</h2>
            {ledger.data && (
              <span className="text-[12.5px] text-ink-2">
                {ledger.data.shares.length}, by {inSentence(of)}
              </span>
            )}
            <ResourceTabs value={of} onChange={setOf} />
          </div>
          {ledger.data ? (
            <>
              <ShareTable ledger={ledger.data} colours={colours} />
              <LedgerLines ledger={ledger.data} />
            </>
          ) : (
            <Waiting error={ledger.error} what="The workloads" />
          )}
        </section>
        <ServiceSheet host={host} />
        <MemorySheet host={host} />
        <GPUSheet host={host} />
        <SensorSheet host={host} />
        <MachineSheet host={host} />
        <CPURows host={host} />
      </Later>
    </>
  )
}

/** The parts of the page, to go to. Those that a host has nothing of are not there. */
function Sections() {
  const [there, setThere] = useState<{ id: string; name: string }[]>([])
  useEffect(() => {
    const main = document.getElementById('main')
    if (!main) return
    // An address may name a part that is not there yet: it is gone to when it comes, and while what is above it grows.
    const wanted = location.hash.slice(1)
    const until = Date.now() + 4000
    let isLed = wanted !== '' // until somebody moves the page
    const follow = () => {
      if (isLed && Date.now() < until) document.getElementById(wanted)?.scrollIntoView()
    }
    const look = () => {
      follow()
      const now = [...main.querySelectorAll<HTMLElement>('section[aria-labelledby] > * h2, section > h2')].flatMap(
        (h) => (h.id ? [{ id: h.id, name: h.textContent }] : []),
      )
      setThere((was) => (was.map((x) => x.id).join() === now.map((x) => x.id).join() ? was : now))
    }
    look()
    const watch = new MutationObserver(look) // parts come as their figures do
    watch.observe(main, { childList: true, subtree: true })
    const moves = ['wheel', 'keydown', 'pointerdown'] as const
    const leave = () => (isLed = false)
    moves.forEach((m) => addEventListener(m, leave, { once: true }))
    return () => {
      moves.forEach((m) => removeEventListener(m, leave))
      watch.disconnect()
    }
  }, [])
  return (
    <nav
      aria-label="On this page"
      className="sticky top-0 z-10 -mx-1 mb-3 flex flex-wrap gap-x-4 gap-y-0 bg-paper px-1 py-1.5 text-[12.5px]"
    >
      {there.map((x) => (
        <a key={x.id} className="inline-block leading-[24px]" href={`#${x.id}`}>
          {x.name}
        </a>
      ))}
    </nav>
  )
}
