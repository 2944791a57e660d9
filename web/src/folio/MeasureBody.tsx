import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { Plate, Series, SeriesGroup, Subject } from '../api/client'
import { useBalance, useColours, usePlacement, useSeries, useWorkload } from '../api/queries'
import { BalanceBar, Meaning } from '../figures/BalanceBar'
import { Chart, StepList } from '../figures/chart/Chart'
import { layersOf } from '../figures/chart/HowItWent'
import { highestOf, type Bound, type Layer, type Told } from '../figures/chart/layers'
import { PlacementDrawing } from '../figures/chart/PlacementSheet'
import { List, type Column } from '../figures/List'
import { AllMissed } from '../figures/Missed'
import { entry } from '../figures/register'
import { shown } from '../figures/Name'
import { Source } from '../figures/Source'
import { StackBar } from '../figures/StackBar'
import { percent } from '../figures/text'
import { Waiting } from '../figures/Trouble'
import { figure, meanText, roundScale, tenantColour, title, unitOf, whole, cpusOf, type CPUsOf } from '../figures/units'
import { WorkloadLink } from '../figures/WorkloadLink'
import type { Span } from '../time/span'
import { useTime } from '../time/useTime'
import { meanOver, partsOf, questionOf, subjectText } from './plate'
import { Spark } from './Spark'

export type BodyProps = { plate: Plate; subject: Subject; form: string; span: Span; high: number }

/** What a plate shows of a measure. */
export function MeasureBody(props: BodyProps) {
  if (props.form === 'placement') return <PlacementBody {...props} />
  return <SeriesBody {...props} />
}

function PlacementBody({ plate, subject, span }: BodyProps) {
  const by = plate.by === 'workload' ? 'workload' : 'tenant'
  const placement = usePlacement(span, subject.name ?? '', by)
  if (!placement.data) return <Waiting error={placement.error} what="Who ran where" />
  if (placement.data.cpus.length === 0) return <Nothing />
  return <PlacementDrawing of={placement.data} shade="busy" />
}

function SeriesBody({ plate, subject, form, span, high }: BodyProps) {
  const { step, ...question } = questionOf(plate, subject, !!entry(plate.of).part)
  // Live frames have steps of their own.
  const series = useSeries(span, { ...question, step: span.live && span.pace ? undefined : step })
  const { colours } = useColours()
  if (!series.data) return <Waiting error={series.error} what={title(plate.of)} />
  const s = series.data
  const lacks = <Lacks by={s} />
  if (s.groups.length === 0)
    return (
      <>
        <Nothing />
        {lacks}
      </>
    )
  const layers = inked(s, layersOf(s, !plate.by || form === 'line', colours), plate)
  // A group may be of any host: CPU time is a part of something only where all of it is of the same.
  const of = cpusOf(s.host, meanOver(s.measure === 'cpu' ? s.capacity : [], s.seconds))
  const props = { plate, series: s, layers, high, whose: subjectText(subject), of }
  return (
    <Bounded plate={plate} subject={subject} span={span} series={s}>
      {(bounds) => (
        <>
          {form === 'number' && <NumberBody {...props} bounds={bounds} />}
          {form === 'filled' && <FilledBody {...props} bounds={bounds} />}
          {(form === 'line' || form === 'stack') && <OverTime {...props} bounds={bounds} isStack={form === 'stack'} />}
          {form === 'bars' && <BarsBody {...props} />}
          {form === 'parts' && <PartsBody {...props} />}
          {form === 'table' && <TableBody {...props} />}
          {lacks}
        </>
      )}
    </Bounded>
  )
}

function Nothing() {
  return <p className="p-3.5 font-serif">Nothing was told of it in this span.</p>
}

/** That a figure is not of the whole span, and why; nothing where it is. */
function Lacks({ by }: { by: Series }) {
  if (!by.uncovered && !by.caveats?.length) return null
  return (
    <p className="px-3.5 pb-1.5 text-[12.5px] text-amber">
      <Meaning meaning={<AllMissed by={by} />}>something of the span is missing</Meaning>
    </p>
  )
}

/** Gives the first group the colour that was chosen, and the others those after it. Tenants keep their own. */
function inked(series: Series, layers: Layer[], plate: Plate): Layer[] {
  if (!plate.colour || series.by === 'tenant') return layers
  return layers.map((l, i) =>
    i < series.groups.length ? { ...l, colour: tenantColour(((plate.colour! - 1 + i) % 8) + 1) } : l,
  )
}

/** What figures are held against: the capacity of hosts that are shown whole, a tenant's quota, a workload's limit. */
function Bounded(props: {
  plate: Plate
  subject: Subject
  span: Span
  series: Series
  children: (bounds: Bound[]) => ReactNode
}) {
  const { subject, series, children } = props
  if (subject.kind === 'tenant') return <ByQuota {...props} />
  if (subject.kind === 'workload') return <ByLimit {...props} />
  const capacity = meanOver(series.capacity, series.seconds)
  return children(capacity ? [{ name: 'the capacity', value: capacity }] : [])
}

function ByQuota({ plate, subject, span, children }: Parameters<typeof Bounded>[0]) {
  const row = useBalance(span).data?.tenants.find((t) => t.tenant === subject.name)
  const quota = row?.uses.find((u) => u.resource === plate.of)?.quota
  return children(quota ? [{ name: 'its quota', value: quota }] : [])
}

function ByLimit({ plate, subject, span, children }: Parameters<typeof Bounded>[0]) {
  const facts = useWorkload(span, Number(subject.name)).data?.facts
  const limit = Number(facts?.[{ cpu: 'cpu_limit_cores', memory: 'memory_limit_bytes' }[plate.of] ?? ''] ?? 0)
  return children(limit > 0 ? [{ name: 'its limit', value: limit }] : [])
}

/** What bounds a figure, which is a round one. */
function boundText(of: string, v: number): string {
  const unit = unitOf(of, v)
  return `${whole(v, unit)} ${unit.name}`
}

type Drawn = { plate: Plate; series: Series; layers: Layer[]; high: number; whose: string; of?: CPUsOf }

/** All of it by step: what the hosts used where they are shown whole, else what was charged. */
function wholeOf(s: Series): { mean: number | null; steps: Told[]; source: string } {
  const isWhole = s.used?.some((v) => v !== null)
  const steps = isWhole ? s.used : (s.groups[0]?.mean ?? [])
  return {
    mean: isWhole ? meanOver(s.used, s.seconds) : (s.groups[0]?.mean_whole ?? null),
    steps,
    source: s.groups[0]?.source ?? '',
  }
}

function NumberBody({ plate, series, whose, bounds, of }: Drawn & { bounds: Bound[] }) {
  const { mean, steps, source } = wholeOf(series)
  const highest = highestOf([steps])?.value
  const against = bounds[0]
  if (mean === null) return <Nothing />
  return (
    <div className="flex flex-wrap items-end gap-x-5 gap-y-1 px-3.5 py-2">
      <p>
        <span className="font-serif text-[24px] leading-tight font-[600]">{meanText(plate.of, mean, of)}</span>
        <span className="block text-[12.5px] text-ink-2">
          {against && `${percent(mean / against.value)} of ${against.name} · `}
          {highest !== undefined && `highest ${meanText(plate.of, highest, of)}`}
          {source && (
            <>
              {' · '}
              <Source source={source} />
            </>
          )}
        </span>
      </p>
      <Spark
        steps={steps}
        label={`${title(plate.of)} of ${whose}, over the span`}
        colour={plate.colour ? tenantColour(plate.colour) : 'var(--vine)'}
      />
    </div>
  )
}

function FilledBody({ plate, series, whose, bounds, of }: Drawn & { bounds: Bound[] }) {
  const { mean, steps } = wholeOf(series)
  const highest = highestOf([steps])?.value ?? 0
  const bound = bounds[0]
  if (mean === null) return <Nothing />
  const end = bound?.value ?? highest
  const isOver = bound !== undefined && mean > bound.value
  return (
    <div className="px-3.5 py-2">
      <p>
        <span className={`font-serif text-[24px] leading-tight font-[600] ${isOver ? 'text-wine' : ''}`}>
          {meanText(plate.of, mean, of)}
        </span>
        {bound && <span className="text-ink-2"> of {boundText(plate.of, bound.value)}</span>}
      </p>
      <div className="my-1.5">
        <StackBar
          label={`${title(plate.of)} of ${whose}`}
          whole={end}
          parts={[
            {
              name: 'used',
              value: Math.min(mean, end),
              colour: isOver ? 'var(--wine)' : plate.colour ? tenantColour(plate.colour) : 'var(--vine)',
            },
          ]}
        />
      </div>
      <p className="text-[12.5px] text-ink-2">
        {bound
          ? `${percent(mean / bound.value)} of ${bound.name}, highest ${percent(highest / bound.value)}`
          : 'Nothing that bounds it is known: the bar ends at its highest.'}
      </p>
    </div>
  )
}

function OverTime({
  of,
  plate,
  series,
  layers,
  high,
  whose,
  bounds,
  isStack,
}: Drawn & { bounds: Bound[]; isStack: boolean }) {
  const size = bounds[0]?.value ?? highestOf(series.groups.map((g) => g.mean))?.value ?? null
  return (
    <Chart
      name={`${title(plate.of)} of ${whose}`}
      series={series}
      layers={layers}
      bounds={bounds}
      unit={unitOf(series.measure, size, of)}
      isStack={isStack}
      small={Math.max(high - 30, 80)}
    />
  )
}

/** A group's name, and the way to what is known of it. */
function GroupName({ of: g, by }: { of: SeriesGroup; by: string }) {
  const { search } = useTime()
  if (g.id > 0) return <WorkloadLink id={g.id} name={g.name} />
  const name = shown(g.name)
  if (by === 'host')
    return (
      <Link to="/hosts/$host" params={{ host: g.name }} search={search}>
        {name}
      </Link>
    )
  if (by === 'tenant' && g.name !== 'unassigned')
    return (
      <Link to="/tenants/$tenant" params={{ tenant: g.name }} search={search}>
        {name}
      </Link>
    )
  if (by === 'user' && g.name)
    return (
      <Link to="/users/$user" params={{ user: g.name }} search={search}>
        {name}
      </Link>
    )
  return name || 'not known'
}

/** What is beside the name: the host, where groups of several are told. */
const besideName = (g: SeriesGroup, s: Series) =>
  g.host && ['workload', 'part'].includes(s.by) && s.host !== g.host ? g.host : ''

function BarsBody({ plate, series, layers, whose, of }: Drawn) {
  const rest = series.rest && { ...series.rest, mean_whole: meanOver(series.rest.mean, series.seconds) }
  const rows = [...series.groups, ...(rest ? [rest] : [])]
  const most = Math.max(0, ...rows.map((g) => g.most ?? g.mean_whole ?? 0))
  const unit = unitOf(plate.of, most, of)
  const scale = roundScale(1.02 * most, unit)
  const precise = { ...unit, digits: unit.digits + 1 }
  return (
    <div className="px-3.5 py-1.5">
      <table className="bare [&_td]:border-0 [&_td]:px-1.5 [&_td]:py-0.5 [&_th]:border-0 [&_th]:px-0 [&_th]:py-0.5">
        <tbody>
          {rows.map((g, i) => {
            const isRest = g === rest
            const name = isRest ? (layers.find((l) => l.key === 'rest')?.name ?? 'the rest') : g.name
            return (
              <tr key={`${g.id} ${g.name} ${g.host ?? ''} ${i}`}>
                <th scope="row" className="w-2/5 max-w-40 truncate">
                  {isRest ? <span className="text-ink-2">{name}</span> : <GroupName of={g} by={series.by} />}{' '}
                  <small className="text-ink-2">{besideName(g, series)}</small>
                </th>
                <td>
                  <BalanceBar
                    label={`${title(plate.of)} of ${name}, ${whose}`}
                    unit={precise}
                    scale={scale}
                    colour={isRest ? 'var(--rule-2)' : (layers[i]?.colour ?? 'var(--vine)')}
                    used={g.mean_whole}
                    peak={g.most}
                    quota={null}
                    reason="nothing was told"
                  />
                </td>
                <td className="num w-px">{g.mean_whole === null ? '–' : figure(g.mean_whole, precise)}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
      <p className="py-1 text-[12.5px] text-ink-2">
        The scale is from 0 to {figure(scale, unit)} {unit.name}. Thin lines are the highest.
      </p>
    </div>
  )
}

function PartsBody({ plate, series, layers, whose, of }: Drawn) {
  const parts = partsOf(series, layers)
  const capacity = meanOver(series.capacity, series.seconds)
  const sum = parts.reduce((a, p) => a + p.mean, 0)
  const all = capacity ?? sum
  const lines = capacity !== null ? [...parts, { name: 'free', colour: 'var(--track)', mean: capacity - sum }] : parts
  return (
    <div className="px-3.5 py-2">
      <StackBar
        label={`${title(plate.of)} of ${whose}`}
        whole={all}
        parts={parts.map((p) => ({ name: p.name, value: p.mean, colour: p.colour }))}
      />
      <table className="bare mt-1.5 [&_td]:border-0 [&_td]:px-1.5 [&_td]:py-0.5 [&_th]:border-0 [&_th]:px-0 [&_th]:py-0.5">
        <tbody>
          {lines.map((p) => (
            <tr key={p.name}>
              <th scope="row" className="max-w-40 truncate">
                <span className="sw mr-1.5" style={{ background: p.colour }} aria-hidden />
                {shown(p.name)}
              </th>
              <td className="num">{meanText(plate.of, p.mean, of)}</td>
              <td className="num w-px text-ink-2">{all > 0 ? percent(p.mean / all) : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="pt-1 text-[12.5px] text-ink-2">
        {capacity === null
          ? '% of what is in use: the capacity is not known.'
          : `% of the capacity, ${boundText(plate.of, capacity)}.`}
      </p>
    </div>
  )
}

function TableBody({ plate, series, layers, whose, of }: Drawn) {
  const name = `${title(plate.of)} of ${whose}`
  const unit = unitOf(plate.of, highestOf(series.groups.map((g) => g.mean))?.value ?? null, of)
  if (!plate.by) return <StepList name={name} series={series} layers={layers} unit={unit} />
  const cell = (v: number | null) => (v === null ? '–' : figure(v, { ...unit, digits: unit.digits + 1 }))
  const told = (id: string, head: string, value: (g: SeriesGroup) => number | null): Column<SeriesGroup> => ({
    id: `${id}_${series.mean_unit}`,
    head,
    isFigure: true,
    value,
    cell: (g) => cell(value(g)),
  })
  const columns: Column<SeriesGroup>[] = [
    {
      id: series.by,
      head: series.by.replace(/^label:/, ''),
      isHead: true,
      value: (g) => g.name,
      cell: (g) => (
        <>
          <GroupName of={g} by={series.by} /> <small className="text-ink-2">{besideName(g, series)}</small>
        </>
      ),
    },
    told('mean', `Mean ${unit.name}`, (g) => g.mean_whole),
    told('least', 'Least', (g) => g.least),
    told('most', 'Most', (g) => g.most),
    { id: 'source', head: 'Source', value: (g) => g.source, cell: (g) => <Source source={g.source} /> },
  ]
  return <List name={name} rows={series.groups} columns={columns} rowKey={(g) => `${g.id} ${g.name} ${g.host ?? ''}`} />
}
