import { useState } from 'react'
import { useEvents, useSeries } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { Choice } from '../Choice'
import { Missed } from '../Missed'
import { entry, partFigures } from '../register'
import { Waiting } from '../Trouble'
import { tenantColour, unitOf } from '../units'
import { Chart } from './Chart'
import { highestOf, type Layer } from './layers'

/** How a figure of hosts' parts went over the span: of their drives, interfaces, GPUs, CPUs or sensors, a line each. */
export function PartsWent({
  of,
  figures,
  host,
  part,
}: {
  /** The kind of part. */
  of: string
  /** Which of its figures, the first first; all of them when left out. */
  figures?: string[]
  /** Only of this host. */
  host?: string
  /** Only this part of it. */
  part?: string
}) {
  const { span } = useTime()
  const all = figures ?? partFigures(of)
  const [chosen, setChosen] = useState<string>()
  const figure = chosen ?? all[0] ?? ''
  const series = useSeries(span, { of: figure, host, part, first: 8 }, figure !== '')
  const events = useEvents(span, { host }, true).data
  if (figure === '') return null
  const groups = series.data?.groups ?? []
  const layers: Layer[] = groups.map((g, i) => ({
    key: `${g.host} ${g.name}`,
    name: host ? g.name : `${g.name} of ${g.host}`,
    colour: tenantColour((i % 8) + 1),
    mean: g.mean,
    whole: g.mean_whole,
    peak: g.peak.some((v) => v !== null) ? g.peak : undefined,
  }))
  const highest = highestOf(groups.flatMap((g) => [g.mean, g.peak]))?.value ?? null
  const id = `went-${of}`
  return (
    <section className="sheet mt-4.5 mb-4.5" aria-labelledby={id}>
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id={id}>How {part ? 'it' : `${names[of] ?? of}`} went</h2>
        <Choice
          label="Figure"
          value={figure}
          set={setChosen}
          all={Object.fromEntries(all.map((f) => [f, short(entry(f).title)]))}
        />
        <span className="text-[12.5px] text-ink-2">{series.data?.note}</span>
      </div>
      {!series.data ? (
        <Waiting error={series.error} what="How it went" />
      ) : groups.length === 0 ? (
        <>
          <Missed by={series.data} isInSheet />
          <p className="p-3.5 font-serif">Nothing was told of it in this span.</p>
        </>
      ) : (
        <Chart
          name={`${entry(figure).title} of ${part ? `${part} of ` : ''}${series.data.host}`}
          series={series.data}
          layers={layers}
          bounds={[]}
          unit={unitOf(figure, highest)}
          isStack={false}
          events={events}
        />
      )}
    </section>
  )
}

/** What a kind of part is called where there are several. */
const names: Record<string, string> = {
  drive: 'the drives',
  interface: 'the interfaces',
  gpu: 'the GPUs',
  cpu: 'the CPUs',
  sensor: 'the sensors',
}

/** A title without the part that it is of, where that is said beside it. */
function short(title: string): string {
  const after = title.split(', ').slice(1).join(', ')
  return after === '' ? title : after
}
