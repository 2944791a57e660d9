import type { SensorLine } from '../../api/client'
import { useSensors } from '../../api/queries'
import { Heads } from '../../figures/Heads'
import { shown } from '../../figures/Name'
import { leftText, tells } from '../../figures/sensors'
import { PartsWent } from '../../figures/chart/PartsWent'
import { entry, partFigures } from '../../figures/register'
import { Folding } from '../../figures/Folding'

/** What the sensors of a host told last: the most urgent first. A host that has none takes no place for them. */
export function SensorSheet({ host }: { host: string }) {
  const sensors = useSensors(host).data
  if (!sensors?.length) return null
  const urgent = sensors.filter((s) => ['fault', 'beyond', 'alarm', 'near'].includes(s.state)).length
  const kinds = partFigures('sensor').filter((f) => sensors.some((s) => s.kind === entry(f).sensor_kind))
  return (
    <>
      <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="sensors-title">
        <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
          <h2 id="sensors-title">Sensors</h2>
          <span className="text-[12.5px] text-ink-2">
            {sensors.length}, {urgent === 0 ? 'none near a threshold' : `${urgent} broken, beyond or near a threshold`}
          </span>
        </div>
        <Folding className="min-w-160">
          <Heads columns={['Sensor', 'Kind', 'Chip', ['Tells', 'num'], 'State', 'Left']} />
          <tbody>
            {sensors.map((s, i) => (
              <Row key={`${s.chip}/${s.device}/${s.name}/${i}`} sensor={s} />
            ))}
          </tbody>
        </Folding>
      </section>
      {kinds.length > 0 && <PartsWent of="sensor" host={host} figures={kinds} />}
    </>
  )
}

const grave = ['fault', 'beyond', 'alarm']

function Row({ sensor: s }: { sensor: SensorLine }) {
  return (
    <tr>
      <th scope="row">
        {shown(s.name)} {s.device && <span className="text-[12.5px] text-ink-2">{shown(s.device)}</span>}
      </th>
      <td>{s.kind}</td>
      <td>{shown(s.chip)}</td>
      <td className="num">{tells(s)}</td>
      <td className={grave.includes(s.state) ? 'font-semibold text-wine' : s.state === 'near' ? 'font-semibold' : ''}>
        {s.state}
      </td>
      <td className="text-ink-2">{leftText(s)}</td>
    </tr>
  )
}
