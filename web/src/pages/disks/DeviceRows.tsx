import type { DeviceLine } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { Heads } from '../../figures/Heads'
import { meaningOf } from '../../figures/words'
import { StackBar, type Part } from '../../figures/StackBar'
import { tenantColour } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { milliseconds, percent, rate, size } from '../../figures/text'
import { Folding } from '../../figures/Folding'

type Props = { devices: DeviceLine[]; colours: Map<string, number> }

/** A row a device: the busiest drive first, what is on it below. Empty memory disks are left out. */
export function DeviceRows({ devices, colours }: Props) {
  const shown = devices.filter((d) => d.kind !== 'memory')
  if (shown.length === 0) return <p className="p-3.5 font-serif">No host has told of any device in this span.</p>
  return (
    <Folding className="min-w-240">
      <Heads
        columns={[
          'Device',
          'Mounted',
          ['Read', 'num'],
          ['Written', 'num'],
          ['Ops/s', 'num'],
          ['Takes, mean', 'num'],
          ['99 % within', 'num'],
          ['Busy', 'w-[13%]'],
          ['Who', 'w-[28%]'],
        ]}
      />
      <tbody>
        {shown.map((d) => (
          <DeviceRow key={`${d.host}/${d.name}`} device={d} colours={colours} />
        ))}
      </tbody>
    </Folding>
  )
}

function DeviceRow({ device: d, colours }: { device: DeviceLine; colours: Map<string, number> }) {
  const bytes = d.read_bytes_per_second + d.written_bytes_per_second
  const others = d.users.length - 3 + d.more_users
  return (
    <tr>
      <th scope="row" style={{ paddingLeft: `${14 + 18 * d.depth}px` }} className="whitespace-nowrap">
        {d.name}
        <small className="block text-[12.5px] font-normal text-ink-2">
          {d.depth === 0 ? [d.host, d.controller, d.model].filter((s) => s !== '').join(' · ') : d.kind}
        </small>
      </th>
      <td>
        {d.mount === '' ? <span className="text-ink-2">{d.mount_state}</span> : d.mount}
        {d.space_bytes !== null && d.used_bytes !== null && d.space_bytes > 0 && (
          <small className="block text-[12.5px] whitespace-nowrap text-ink-2">
            {percent(d.used_bytes / d.space_bytes)} of {size(d.space_bytes)} full
          </small>
        )}
      </td>
      <td className="num">{rate(d.read_bytes_per_second)}</td>
      <td className="num">
        {rate(d.written_bytes_per_second)}
        {d.discards_per_second > 0 && !d.all_of_its_device && (
          <small className="block text-[12.5px] text-ink-2">
            <Meaning meaning="Bytes that it was told to forget, such as those of removed files. They are not written.">
              {rate(d.discarded_bytes_per_second)} discarded
            </Meaning>
          </small>
        )}
      </td>
      <td className="num">
        {(d.reads_per_second + d.writes_per_second).toFixed(0)}
        {d.merged_per_second >= 0.5 && (
          <small className="block text-[12.5px] text-ink-2">{d.merged_per_second.toFixed(0)} merged</small>
        )}
      </td>
      <td className="num">{milliseconds(d.latency_ms_mean)}</td>
      <td className="num">
        {d.latency_ms_p99 === null ? (
          <Meaning meaning={d.latency_p99_unavailable ?? 'Not counted.'}>–</Meaning>
        ) : (
          milliseconds(d.latency_ms_p99)
        )}
      </td>
      <td>
        <StackBar
          thin
          label={`${d.name} of ${d.host}, busy`}
          whole={1}
          parts={[{ name: 'busy', value: d.busy, colour: d.busy >= 0.85 ? 'var(--wine)' : 'var(--ink-2)' }]}
        />
        <div className={`mt-1 text-[12.5px] ${d.busy >= 0.85 ? 'text-wine' : 'text-ink-2'}`}>
          {percent(d.busy)}, {d.queue_mean.toFixed(1)} queued
        </div>
      </td>
      <td>
        {d.all_of_its_device && bytes > 0 && <span className="text-[12.5px] text-ink-2">as on the device above</span>}
        {!d.all_of_its_device && d.users.length > 0 && (
          <>
            <StackBar thin label={`${d.name} of ${d.host}, by workload`} whole={bytes} parts={partsOf(d, colours)} />
            <div className="mt-1 text-[12.5px]">
              {d.users.slice(0, 3).map((u, i) => (
                <span key={u.id}>
                  {i > 0 && ', '}
                  <WorkloadLink id={u.id} name={u.name} /> {percent(u.share)}
                  {u.latency_ms_mean !== null && <span className="text-ink-2"> {milliseconds(u.latency_ms_mean)}</span>}
                </span>
              ))}
              {others > 0 && <span className="text-ink-2">, {others} more</span>}{' '}
              <span className="text-ink-2">
                <Meaning meaning={meaningOf(d.users[0]!.source)}>{d.users[0]!.source}</Meaning>
              </span>
            </div>
          </>
        )}
        {d.users.length === 0 && bytes > 0 && d.depth === 0 && (
          <span className="text-[12.5px] text-ink-2">{d.users_unavailable || 'no workload'}</span>
        )}
      </td>
    </tr>
  )
}

function partsOf(d: DeviceLine, colours: Map<string, number>): Part[] {
  const listed = d.users.map((u) => ({
    name: u.name,
    value: u.read_bytes_per_second + u.written_bytes_per_second,
    colour: tenantColour(colours.get(u.tenant) ?? 0, u.tenant),
  }))
  if (d.more_users === 0) return listed
  return [...listed, { name: `${d.more_users} more`, value: d.more_users_bytes_per_second, colour: 'var(--ink-2)' }]
}
