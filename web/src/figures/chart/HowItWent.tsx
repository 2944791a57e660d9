import { useState } from 'react'
import type { Happened, Series } from '../../api/client'
import { useColours, useEvents, useSeries, type SeriesQuestion } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { Choice } from '../Choice'
import { Missed } from '../Missed'
import { ResourceTabs } from '../ResourceTabs'
import { resources } from '../register'
import { Waiting } from '../Trouble'
import { tenantColour, title, unitOf, type CPUsOf, cpusOf } from '../units'
import { Chart } from './Chart'
import { highestOf, type Bound, type Layer } from './layers'

const groupings: Record<string, string> = {
  tenant: 'by tenant',
  workload: 'by workload',
  user: 'by person',
  kind: 'by kind',
  host: 'by host',
}

/** How a resource went over the span, of a host, a tenant, a person, a workload or the fleet. */
export function HowItWent({
  name,
  scope,
  by,
  bounds,
  capacityOf,
  cpus,
}: {
  /** Whose it is, for those who do not see it and for files. */
  name: string
  scope: Omit<SeriesQuestion, 'of' | 'by' | 'first'>
  /** What it can be grouped by, the first first; one workload is not grouped. */
  by: (keyof typeof groupings)[]
  /** What it is held against, by resource: a quota, a limit. */
  bounds?: (resource: string) => Bound[]
  /** Whose capacity the series tells; none where it is not held against that. */
  capacityOf?: string
  /** Of a workload: what its CPU time can be told as a part of. */
  cpus?: CPUsOf
}) {
  const { span } = useTime()
  const [of, setOf] = useState(() => resources()[0] ?? '')
  const [grouping, setGrouping] = useState(by[0]!)
  const series = useSeries(span, { ...scope, of, by: grouping, first: 7 })
  const { colours } = useColours()
  const isOne = scope.workload !== undefined
  const { host, tenant, workload } = scope
  const events = useEvents(span, { host, tenant, workload }, scope.where === undefined).data
  return (
    <section className="sheet mt-4.5 mb-4.5" aria-labelledby="went-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="went-title">How it went</h2>
        {by.length > 1 && (
          <Choice
            label="Grouping"
            value={grouping}
            set={setGrouping}
            all={Object.fromEntries(by.map((b) => [b, groupings[b]!]))}
          />
        )}
        <ResourceTabs value={of} onChange={setOf} />
      </div>
      {series.data ? (
        <Went
          name={`${title(of)} of ${name}`}
          series={series.data}
          isOne={isOne}
          colours={colours}
          bounds={bounds?.(of) ?? []}
          capacityOf={capacityOf}
          events={events}
          cpus={cpus}
        />
      ) : (
        <Waiting error={series.error} what="How it went" />
      )}
    </section>
  )
}

function Went({
  name,
  series,
  isOne,
  colours,
  bounds,
  capacityOf,
  events,
  cpus,
}: {
  name: string
  series: Series
  events?: Happened[]
  isOne: boolean
  colours: Map<string, number>
  bounds: Bound[]
  capacityOf?: string
  cpus?: CPUsOf
}) {
  if (series.groups.length === 0)
    return (
      <>
        <Missed by={series} isInSheet />
        <p className="p-3.5 font-serif">Nothing was told of it in this span.</p>
      </>
    )
  const capacity = capacityOf ? highestOf([series.capacity ?? []])?.value : undefined
  const all = capacity === undefined ? bounds : [...bounds, { name: capacityOf!, value: capacity }]
  const size = capacity ?? highestOf(series.groups.map((g) => g.mean))?.value ?? null
  const unit = unitOf(series.measure, size, cpus ?? cpusOf(series.host, capacity))
  return (
    <Chart
      name={name}
      series={series}
      layers={layersOf(series, isOne, colours)}
      bounds={all}
      unit={unit}
      isStack={!isOne}
      of={all[0]}
      events={events}
    />
  )
}

/** What is drawn of a series: the rest and what the kernel had below the groups' tops, what nobody had at the top. */
export function layersOf(series: Series, isOne: boolean, colours: Map<string, number>): Layer[] {
  const layers: Layer[] = series.groups.map((g, i) => ({
    key: `${g.id} ${g.name} ${g.host ?? ''}`,
    name:
      g.host && ['workload', 'part'].includes(series.by) && series.host === 'all hosts'
        ? `${g.name} on ${g.host}`
        : g.name,
    colour: series.by === 'tenant' ? tenantColour(colours.get(g.name) ?? 0, g.name) : tenantColour((i % 8) + 1),
    mean: g.mean,
    peak: series.peak_of === 'tick' && isOne ? g.peak : undefined,
  }))
  if (isOne) return layers
  if (series.rest)
    layers.push({
      key: 'rest',
      name: series.groups_in_rest === 1 ? 'one other' : `${series.groups_in_rest} others`,
      colour: 'var(--rule-2)',
      mean: series.rest.mean,
    })
  if (series.kernel?.some((v) => v !== null))
    layers.push({ key: 'kernel', name: 'kernel', colour: 'var(--ink-2)', mean: series.kernel })
  if (series.residual?.some((v) => v !== null))
    layers.push({
      key: 'residual',
      name: 'charged to nobody',
      colour: 'var(--rule-2)',
      isUnknown: true,
      mean: series.residual,
    })
  return layers
}
