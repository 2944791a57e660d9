import { written } from '../figures/number'
import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { DeviceLine, GPULine, Host, SensorLine, WorkloadLine } from '../api/client'
import {
  useAllHosts,
  useBalance,
  useColours,
  useDisks,
  useEvents,
  useGPUs,
  useSensors,
  useWorkloads,
} from '../api/queries'
import { BalanceBar } from '../figures/BalanceBar'
import { EventList } from '../figures/EventList'
import { stateText } from '../figures/gpus'
import { List, type Column } from '../figures/List'
import { Missed } from '../figures/Missed'
import { shown } from '../figures/Name'
import { isTold } from '../figures/register'
import { leftText, tells } from '../figures/sensors'
import { StackBar } from '../figures/StackBar'
import { loads, memory, moment, percent, rate, size } from '../figures/text'
import { Waiting } from '../figures/Trouble'
import { figure, meanText, roundScale, tenantColour, title, unitOf, cpusOfWorkload } from '../figures/units'
import { WorkloadLink } from '../figures/WorkloadLink'
import { useTime } from '../time/useTime'
import type { BodyProps } from './MeasureBody'

/** What a plate shows of something that is listed. */
export function ListBody(props: BodyProps) {
  const Body = bodies[props.plate.of]
  return Body ? <Body {...props} /> : <p className="p-3.5 text-wine">This console cannot list {props.plate.of}.</p>
}

const bodies: Record<string, (props: BodyProps) => ReactNode> = {
  events: Events,
  signed_in: SignedIn,
  hosts: Hosts,
  drives: Drives,
  filesystems: Filesystems,
  gpu_devices: GPUDevices,
  sensors: Sensors,
  standing: Standing,
}

/** How many lines a plate lists where nothing else was chosen. */
const usualLines = 8

/** The first lines of a list, and how many there are. */
function cutTo<T>(all: T[], plate: BodyProps['plate']): { rows: T[]; more: ReactNode } {
  const first = plate.first || usualLines
  return {
    rows: all.slice(0, first),
    more: all.length > first && (
      <p className="px-3.5 pb-1.5 text-[12.5px] text-ink-2">
        The first {first} of {all.length.toLocaleString('en')}.
      </p>
    ),
  }
}

const hostOf = (p: BodyProps) => (p.subject.kind === 'host' ? p.subject.name : undefined)

function Count({ n, of, more }: { n: number; of: string; more?: string }) {
  return (
    <p className="px-3.5 py-2">
      <span className="font-serif text-[24px] leading-tight font-[600]">{n.toLocaleString('en')}</span>{' '}
      <span className="text-ink-2">{of}</span>
      {more && <span className="block text-[12.5px] text-ink-2">{more}</span>}
    </p>
  )
}

function None({ children }: { children: ReactNode }) {
  return <p className="p-3.5 font-serif">{children}</p>
}

function HostLink({ host }: { host: string }) {
  const { search } = useTime()
  return (
    <Link to="/hosts/$host" params={{ host }} search={search}>
      {host}
    </Link>
  )
}

function Events(props: BodyProps) {
  const { span, subject, plate, form } = props
  const q = { host: hostOf(props), tenant: subject.kind === 'tenant' ? subject.name : undefined }
  const events = useEvents(span, q)
  if (!events.data) return <Waiting error={events.error} what="What happened" />
  const urgent = events.data.filter((e) => e.urgent).length
  if (form === 'number')
    return <Count n={events.data.length} of="events" more={`${urgent} that somebody should look at`} />
  if (events.data.length === 0) return <None>Nothing happened in this span.</None>
  return (
    <EventList
      name="events"
      events={events.data}
      withHost={subject.kind !== 'host'}
      first={plate.first || usualLines}
    />
  )
}

function SignedIn(props: BodyProps) {
  const { span, plate, form } = props
  const sessions = useWorkloads(span, { where: "kind == 'session'", host: hostOf(props) }, 'amount')
  if (!sessions.data) return <Waiting error={sessions.error} what="Who is signed in" />
  const all = sessions.data
  const people = new Set(all.map((w) => w.owner)).size
  if (form === 'number')
    return <Count n={people} of={people === 1 ? 'person' : 'people'} more={`${all.length} sign-ins`} />
  if (all.length === 0) return <None>Nobody was signed in in this span.</None>
  const used = (resource: string): Column<WorkloadLine> => ({
    id: `${resource}_mean`,
    head: title(resource),
    isFigure: true,
    value: (w) => w.uses.find((u) => u.resource === resource)?.mean ?? null,
    cell: (w) => {
      const mean = w.uses.find((u) => u.resource === resource)?.mean
      return mean === null || mean === undefined ? '–' : meanText(resource, mean, cpusOfWorkload(w))
    },
  })
  const columns: Column<WorkloadLine>[] = [
    { id: 'owner', head: 'Who', isHead: true, value: (w) => w.owner, cell: (w) => shown(w.owner) },
    { id: 'name', head: 'Session', value: (w) => w.name, cell: (w) => <WorkloadLink id={w.id} name={w.name} /> },
    { id: 'host', head: 'Host', value: (w) => w.host, cell: (w) => <HostLink host={w.host} /> },
    { id: 'origin', head: 'From where', value: (w) => w.facts.origin ?? null },
    { id: 'since', head: 'Since', value: (w) => w.since, cell: (w) => moment(w.since) },
    { id: 'state', head: 'State', value: (w) => w.state },
    used('cpu'),
    used('memory'),
  ]
  return (
    <List
      name="signed in"
      keep="plate.signed-in"
      rows={all}
      columns={columns}
      rowKey={(w) => String(w.id)}
      first={plate.first || usualLines}
    />
  )
}

function Hosts({ plate, form }: BodyProps) {
  const hosts = useAllHosts()
  if (!hosts.data) return <Waiting error={hosts.error} what="The hosts" />
  const silent = hosts.data.filter((h) => h.state === 'silent').length
  if (form === 'number')
    return (
      <Count
        n={hosts.data.length}
        of={hosts.data.length === 1 ? 'host' : 'hosts'}
        more={silent === 0 ? 'none of them is silent' : `${silent} of them silent`}
      />
    )
  const columns: Column<Host>[] = [
    { id: 'name', head: 'Host', isHead: true, value: (h) => h.name, cell: (h) => <HostLink host={h.name} /> },
    {
      id: 'state',
      head: 'State',
      value: (h) => h.state,
      cell: (h) => <span className={h.state === 'silent' ? 'font-semibold text-wine' : ''}>{h.state}</span>,
    },
    { id: 'cpus', head: 'CPUs', isFigure: true, value: (h) => h.cpus },
    {
      id: 'load_1m',
      head: 'Load',
      isFigure: true,
      value: (h) => h.load?.load_1m ?? null,
      cell: (h) => (h.load ? loads(h.load) : '–'),
    },
    {
      id: 'memory_bytes',
      head: 'Memory',
      isFigure: true,
      value: (h) => h.memory_bytes,
      cell: (h) => memory(h.memory_bytes),
    },
  ]
  return (
    <List
      name="hosts"
      keep="plate.hosts"
      rows={hosts.data}
      columns={columns}
      rowKey={(h) => h.name}
      first={plate.first || usualLines}
    />
  )
}

/** Lines with a bar each, of something that is full at one. */
function FullBars({
  rows,
}: {
  rows: {
    key: string
    name: ReactNode
    whose: string
    label: string
    part: number | null
    text: string
    isGrave?: boolean
  }[]
}) {
  return (
    <table className="[&_td]:border-0 [&_td]:px-1.5 [&_td]:py-0.5 [&_th]:border-0 [&_th]:py-0.5 [&_th]:pr-1.5">
      <tbody>
        {rows.map((r) => (
          <tr key={r.key}>
            <th scope="row" className="w-2/5 max-w-44 truncate">
              {r.name} <small className="text-ink-2">{r.whose}</small>
            </th>
            <td>
              <StackBar
                label={r.label}
                whole={1}
                parts={[{ name: 'of it', value: r.part ?? 0, colour: r.isGrave ? 'var(--wine)' : 'var(--vine)' }]}
                thin
                unknown={r.part === null}
              />
            </td>
            <td className={`num w-px ${r.isGrave ? 'font-semibold text-wine' : ''}`}>
              {r.part === null ? '–' : percent(r.part)}
            </td>
            <td className="num w-px text-ink-2">{r.text}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function useDevices(props: BodyProps) {
  return useDisks(props.span, { first: 0, users: 1, host: hostOf(props) })
}

function Drives(props: BodyProps) {
  const disks = useDevices(props)
  if (!disks.data) return <Waiting error={disks.error} what="The drives" />
  const all = disks.data.devices.filter((d) => d.depth === 0)
  if (all.length === 0) return <None>No drive was told of in this span.</None>
  const { rows, more } = cutTo(all, props.plate)
  const isOne = props.subject.kind === 'host'
  const columns: Column<DeviceLine>[] = [
    { id: 'name', head: 'Drive', isHead: true, value: (d) => d.name },
    ...(isOne ? [] : [hostColumn<DeviceLine>()]),
    { id: 'busy', head: 'Busy', isFigure: true, value: (d) => d.busy, cell: (d) => percent(d.busy) },
    bytes('read_bytes_per_second', 'Read', (d) => d.read_bytes_per_second),
    bytes('written_bytes_per_second', 'Written', (d) => d.written_bytes_per_second),
    {
      id: 'latency_ms_mean',
      head: 'Latency ms',
      isFigure: true,
      value: (d) => d.latency_ms_mean,
      cell: (d) =>
        typeof d.latency_ms_mean === 'number' ? written(d.latency_ms_mean, { maximumSignificantDigits: 3 }) : '–',
    },
  ]
  return (
    <>
      <Missed by={disks.data} isInSheet />
      {props.form === 'table' ? (
        <List
          name="drives"
          keep="plate.drives"
          rows={all}
          columns={columns}
          rowKey={(d) => `${d.host}/${d.name}`}
          first={props.plate.first || usualLines}
        />
      ) : (
        <>
          <FullBars
            rows={rows.map((d) => ({
              key: `${d.host}/${d.name}`,
              name: d.name,
              whose: isOne ? '' : d.host,
              label: `${d.name} of ${d.host} busy`,
              part: d.busy,
              text: rate(d.read_bytes_per_second + d.written_bytes_per_second),
            }))}
          />
          <p className="px-3.5 py-1 text-[12.5px] text-ink-2">
            Part of the time with an operation in flight. A drive that is always busy need not be full.
          </p>
        </>
      )}
      {props.form !== 'table' && more}
    </>
  )
}

const bytes = (id: string, head: string, value: (d: DeviceLine) => number): Column<DeviceLine> => ({
  id,
  head,
  isFigure: true,
  value,
  cell: (d) => rate(value(d)),
})

function hostColumn<T extends { host: string }>(): Column<T> {
  return { id: 'host', head: 'Host', value: (r) => r.host, cell: (r) => <HostLink host={r.host} /> }
}

/** How full a filesystem is when somebody should look at it. */
const nearlyFull = 0.9

function Filesystems(props: BodyProps) {
  const disks = useDevices(props)
  if (!disks.data) return <Waiting error={disks.error} what="The filesystems" />
  const full = (d: DeviceLine) => (d.space_bytes && d.used_bytes !== null ? d.used_bytes / d.space_bytes : null)
  const all = disks.data.devices.filter((d) => d.mount !== '').sort((a, b) => (full(b) ?? -1) - (full(a) ?? -1))
  if (all.length === 0) return <None>No mounted filesystem was told of in this span.</None>
  const { rows, more } = cutTo(all, props.plate)
  const isOne = props.subject.kind === 'host'
  const columns: Column<DeviceLine>[] = [
    { id: 'mount', head: 'Mounted at', isHead: true, value: (d) => d.mount },
    ...(isOne ? [] : [hostColumn<DeviceLine>()]),
    { id: 'name', head: 'Device', value: (d) => d.name },
    {
      id: 'full',
      head: 'Full',
      isFigure: true,
      value: full,
      cell: (d) => (full(d) === null ? '–' : percent(full(d)!)),
    },
    {
      id: 'used_bytes',
      head: 'Used',
      isFigure: true,
      value: (d) => d.used_bytes,
      cell: (d) => (d.used_bytes === null ? '–' : size(d.used_bytes)),
    },
    {
      id: 'space_bytes',
      head: 'Space',
      isFigure: true,
      value: (d) => d.space_bytes,
      cell: (d) => (d.space_bytes === null ? '–' : size(d.space_bytes)),
    },
  ]
  return (
    <>
      {props.form === 'table' ? (
        <List
          name="filesystems"
          keep="plate.filesystems"
          rows={all}
          columns={columns}
          rowKey={(d) => `${d.host}/${d.name}/${d.mount}`}
          first={props.plate.first || usualLines}
        />
      ) : (
        <FullBars
          rows={rows.map((d) => ({
            key: `${d.host}/${d.name}/${d.mount}`,
            name: shown(d.mount),
            whose: isOne ? '' : d.host,
            label: `${d.mount} of ${d.host} full`,
            part: full(d),
            text: d.space_bytes === null ? (d.space_unavailable ?? 'not told') : `of ${size(d.space_bytes)}`,
            isGrave: (full(d) ?? 0) >= nearlyFull,
          }))}
        />
      )}
      {props.form !== 'table' && more}
    </>
  )
}

function GPUDevices(props: BodyProps) {
  const { search } = useTime()
  const gpus = useGPUs(props.span, hostOf(props))
  if (!gpus.data) return <Waiting error={gpus.error} what="The GPUs" />
  const { rows, more } = cutTo(gpus.data.gpus, props.plate)
  const isOne = props.subject.kind === 'host'
  if (rows.length === 0) return <None>{isOne ? 'This host has' : 'No host has'} a GPU that tells of itself.</None>
  const link = (g: GPULine) => (
    <Link to="/hosts/$host/gpus/$gpu" params={{ host: g.host, gpu: g.number }} search={search}>
      GPU {g.number}
    </Link>
  )
  const until = gpus.data.to
  const columns: Column<GPULine>[] = [
    { id: 'number', head: 'GPU', isHead: true, value: (g) => g.number, cell: link },
    ...(isOne ? [] : [hostColumn<GPULine>()]),
    { id: 'state', head: 'State', value: (g) => g.state, cell: (g) => stateText(g, until) },
    {
      id: 'busy',
      head: 'Busy',
      isFigure: true,
      value: (g) => g.busy,
      cell: (g) => (g.busy === null ? '–' : percent(g.busy)),
    },
    {
      id: 'memory_used_bytes_mean',
      head: 'Memory',
      isFigure: true,
      value: (g) => g.memory_used_bytes_mean,
      cell: (g) => (g.memory_used_bytes_mean === null ? '–' : memory(g.memory_used_bytes_mean)),
    },
  ]
  return (
    <>
      {props.form === 'table' ? (
        <List
          name="gpus"
          keep="plate.gpus"
          rows={gpus.data.gpus}
          columns={columns}
          rowKey={(g) => `${g.host}/${g.name}`}
          first={props.plate.first || usualLines}
        />
      ) : (
        <FullBars
          rows={rows.map((g) => ({
            key: `${g.host}/${g.name}`,
            name: link(g),
            whose: isOne ? '' : g.host,
            label: `GPU ${g.number} of ${g.host} busy`,
            part: g.busy,
            text: stateText(g, until),
          }))}
        />
      )}
      {props.form !== 'table' && more}
    </>
  )
}

const grave = ['fault', 'beyond', 'alarm']

function Sensors(props: BodyProps) {
  const sensors = useSensors(hostOf(props))
  if (!sensors.data) return <Waiting error={sensors.error} what="The sensors" />
  if (sensors.data.length === 0) return <None>No sensor was told of.</None>
  const columns: Column<SensorLine>[] = [
    {
      id: 'name',
      head: 'Sensor',
      isHead: true,
      value: (s) => s.name,
      cell: (s) => (
        <>
          {shown(s.name)} <small className="text-ink-2">{shown(s.device || s.chip)}</small>
        </>
      ),
    },
    ...(props.subject.kind === 'host' ? [] : [hostColumn<SensorLine>()]),
    { id: 'value', head: 'Tells', isFigure: true, value: (s) => s.value, cell: tells },
    {
      id: 'state',
      head: 'State',
      value: (s) => s.state,
      cell: (s) => <span className={grave.includes(s.state) ? 'font-semibold text-wine' : ''}>{s.state}</span>,
    },
    { id: 'left', head: 'Left', value: leftText },
  ]
  return (
    <List
      name="sensors"
      keep="plate.sensors"
      rows={sensors.data}
      columns={columns}
      rowKey={(s) => `${s.host}/${s.chip}/${s.device}/${s.name}`}
      first={props.plate.first || usualLines}
    />
  )
}

/** How tenants stand: what they used against what they may have. */
function Standing(props: BodyProps) {
  const { search } = useTime()
  const { colours } = useColours()
  const balance = useBalance(props.span, hostOf(props))
  if (!balance.data) return <Waiting error={balance.error} what="How tenants stand" />
  const all = balance.data.tenants
    .filter((t) => props.subject.kind !== 'tenant' || t.tenant === props.subject.name)
    .flatMap((t) =>
      t.uses
        .filter((u) => isTold(u) && u.quota !== null)
        .map((u) => ({
          ...u,
          tenant: t.tenant,
          part: u.used_mean === null || !u.quota ? null : u.used_mean / u.quota,
        })),
    )
    .sort((a, b) => (b.part ?? -1) - (a.part ?? -1))
  if (all.length === 0) return <None>No quota is in force.</None>
  const { rows, more } = cutTo(all, props.plate)
  type Line = (typeof all)[number]
  const tenant = (l: Line) => (
    <Link to="/tenants/$tenant" params={{ tenant: l.tenant }} search={search}>
      {shown(l.tenant)}
    </Link>
  )
  const cell = (value: number | null, l: Line) =>
    value === null ? '–' : figure(value, { ...unitOf(l.resource, l.quota), digits: 1 })
  const columns: Column<Line>[] = [
    { id: 'tenant', head: 'Tenant', isHead: true, value: (l) => l.tenant, cell: tenant },
    { id: 'resource', head: 'Of', value: (l) => title(l.resource) },
    {
      id: 'used_mean',
      head: 'Used',
      isFigure: true,
      value: (l) => l.used_mean,
      cell: (l) => cell(l.used_mean, l),
    },
    {
      id: 'peak_minute_mean',
      head: 'Highest minute',
      isFigure: true,
      value: (l) => l.peak_minute_mean,
      cell: (l) => cell(l.peak_minute_mean, l),
    },
    { id: 'quota', head: 'Quota', isFigure: true, value: (l) => l.quota, cell: (l) => cell(l.quota, l) },
    { id: 'unit', head: 'Unit', value: (l) => unitOf(l.resource, l.quota).name },
  ]
  return (
    <>
      {props.form === 'table' ? (
        <List
          name="standing"
          keep="plate.standing"
          rows={all}
          columns={columns}
          rowKey={(l) => `${l.tenant} ${l.resource}`}
          first={props.plate.first || usualLines}
        />
      ) : (
        <table className="[&_td]:border-0 [&_td]:px-1.5 [&_td]:py-0.5 [&_th]:border-0 [&_th]:py-0.5">
          <tbody>
            {rows.map((l) => {
              const unit = unitOf(l.resource, l.quota)
              return (
                <tr key={`${l.tenant} ${l.resource}`}>
                  <th scope="row" className="w-2/5 max-w-44 truncate">
                    {tenant(l)} <small className="text-ink-2">{title(l.resource)}</small>
                  </th>
                  <td>
                    <BalanceBar
                      label={`${l.tenant}, ${title(l.resource)}`}
                      unit={unit}
                      scale={roundScale(1.04 * Math.max(l.quota ?? 0, l.peak_minute_mean ?? 0), unit)}
                      colour={tenantColour(colours.get(l.tenant) ?? 0, l.tenant)}
                      used={l.used_mean}
                      peak={l.peak_minute_mean}
                      quota={l.quota}
                      soft={l.soft}
                      changed={!!l.terms}
                      reason={l.reason}
                    />
                  </td>
                  <td className={`num w-px ${l.over ? 'font-semibold text-wine' : ''}`}>
                    {l.part === null ? '–' : percent(l.part)}
                  </td>
                </tr>
              )
            })}
          </tbody>
        </table>
      )}
      {props.form !== 'table' && more}
    </>
  )
}
