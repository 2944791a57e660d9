import { Missed } from '../../figures/Missed'
import { useColours, useDisks } from '../../api/queries'
import { PartsWent } from '../../figures/chart/PartsWent'
import { More } from '../../figures/More'
import { TenantKey } from '../../figures/TenantKey'
import { Waiting } from '../../figures/Trouble'
import { useState } from 'react'
import { useTime } from '../../time/useTime'
import { ControllerRows } from './ControllerRows'
import { DeviceRows } from './DeviceRows'

const drivesAtOnce = 40
const usersShown = 8

/** Whether storage is the problem, on which device, and who causes it: the busiest devices, each with its workloads. */
export function DisksPage() {
  const { span } = useTime()
  const [first, setFirst] = useState(drivesAtOnce)
  const disks = useDisks(span, { first, users: usersShown })
  const { colours } = useColours()
  return (
    <>
      <h1 className="mb-1.5">Disks</h1>
      {disks.data && (
        <p className={`mb-3 font-serif text-[15px] ${disks.data.trouble ? 'text-wine' : ''}`} role="status">
          {disks.data.verdict}
        </p>
      )}
      <Missed by={disks.data} />
      <section className="sheet overflow-x-auto" aria-label="Devices">
        {disks.data ? (
          <DeviceRows devices={disks.data.devices} colours={colours} />
        ) : (
          <Waiting error={disks.error} what="The disks" />
        )}
        {disks.data && (
          <More
            what="drives"
            shown={disks.data.devices.filter((d) => d.depth === 0).length}
            inAll={disks.data.drives_in_all}
            more={() => setFirst(first + drivesAtOnce)}
          />
        )}
        <TenantKey />
      </section>
      <PartsWent of="drive" />
      {disks.data && <ControllerRows controllers={disks.data.controllers} />}
      <p className="mt-3 max-w-200 font-serif text-[13.5px] text-ink-2">
        A drive’s bytes are seen once more on its partitions and volumes. Busy is the part of the time with an operation
        in flight. What the kernel writes back later is split by who dirtied it; where a host does not count by device,
        a drive’s bytes are split by what each workload’s processes read and dirtied.
      </p>
    </>
  )
}
