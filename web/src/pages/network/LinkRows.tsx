import { useState } from 'react'
import type { LinkLine } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { Heads } from '../../figures/Heads'
import { StackBar } from '../../figures/StackBar'
import { percent, lineRate, networkRate } from '../../figures/text'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useLinks } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { byHost, type HostLinks as HostLinksOf } from './byHost'
import { Folding } from '../../figures/Folding'

/** A row an interface, by host: those that lead off it first, those within it below, the busiest of them at first. */
export function LinkRows({ links, inAll }: { links: LinkLine[]; inAll: Record<string, number> }) {
  const hosts = byHost(links)
  if (hosts.length === 0) return <p className="p-3.5 font-serif">No host has told of any interface in this span.</p>
  return (
    <Folding className="min-w-220">
      <Heads
        columns={[
          'Interface',
          'Other end',
          ['Received', 'w-[22%]'],
          ['Sent', 'w-[22%]'],
          ['Packets/s', 'num'],
          ['Dropped', 'num'],
          ['Errors', 'num'],
        ]}
      />
      {hosts.map((h) => (
        <HostLinks key={h.host} of={h} inAll={inAll[h.host] ?? 0} />
      ))}
    </Folding>
  )
}

/** The interfaces of one host. Those that are not listed are asked for when they are wanted. */
function HostLinks({ of, inAll }: { of: HostLinksOf; inAll: number }) {
  const { span } = useTime()
  const [all, setAll] = useState(false)
  const whole = useLinks(span, { host: of.host, users: 1 }, all)
  const { off, within } = (all && whole.data && byHost(whole.data.interfaces)[0]) || of
  const more = inAll - of.off.length - of.within.length
  return (
    <tbody>
      {[...off, ...within].map((l) => (
        <LinkRow key={l.name} link={l} />
      ))}
      {more > 0 && (
        <tr>
          <td colSpan={7} style={{ paddingLeft: 32 }}>
            <button
              type="button"
              className="text-[12.5px] cursor-pointer text-vine underline"
              onClick={() => setAll(!all)}
            >
              {all ? 'Show the busiest only' : `Show ${more} more of ${of.host}`}
            </button>
          </td>
        </tr>
      )}
    </tbody>
  )
}

function LinkRow({ link: l }: { link: LinkLine }) {
  return (
    <tr>
      <th scope="row" style={{ paddingLeft: l.leads_off ? 14 : 32 }} className="whitespace-nowrap">
        {l.name}
        <small className="block text-[12.5px] font-normal text-ink-2">
          {l.leads_off
            ? `${l.host} · ${l.line_rate_bytes_per_second === null ? 'line rate not told' : lineRate(l.line_rate_bytes_per_second)}`
            : l.kind}
        </small>
      </th>
      <td>
        {l.other_end ? <WorkloadLink id={l.other_end.id} name={l.other_end.name} /> : (l.peer ?? '')}
        {l.other_end && <small className="block text-[12.5px] text-ink-2">{l.other_end.tenant}</small>}
      </td>
      <Way
        label={`${l.name} of ${l.host}, received`}
        bytes={l.received_bytes_per_second}
        line={l.line_rate_bytes_per_second}
      />
      <Way label={`${l.name} of ${l.host}, sent`} bytes={l.sent_bytes_per_second} line={l.line_rate_bytes_per_second} />
      <td className="num">
        {Math.round(l.received_packets_per_second + l.sent_packets_per_second).toLocaleString('en')}
      </td>
      <td className={l.dropped_packets > 0 ? 'num text-wine' : 'num'}>{l.dropped_packets.toLocaleString('en')}</td>
      <td className={l.errors > 0 ? 'num text-wine' : 'num'}>{l.errors.toLocaleString('en')}</td>
    </tr>
  )
}

/** One direction: against the line rate where the driver tells it, else the figure alone. */
function Way({ label, bytes, line }: { label: string; bytes: number; line: number | null }) {
  if (line === null) return <td>{networkRate(bytes)}</td>
  const full = bytes / line >= 0.85
  return (
    <td>
      <StackBar
        thin
        label={label}
        whole={line}
        parts={[{ name: 'used', value: bytes, colour: full ? 'var(--wine)' : 'var(--ink-2)' }]}
      />
      <div className={`mt-1 text-[12.5px] ${full ? 'text-wine' : 'text-ink-2'}`}>
        <span className="text-ink">{networkRate(bytes)}</span>, {percent(bytes / line)}{' '}
        <Meaning meaning="Of the line rate in this direction, as the interface’s driver tells it.">of the line</Meaning>
      </div>
    </td>
  )
}
