import type { Machine } from '../../api/client'
import { useMachine } from '../../api/queries'
import { ActButton, useMayAct } from '../../figures/act/ActButton'
import { Heads } from '../../figures/Heads'
import { shown } from '../../figures/Name'
import { machineLines } from './machine'

const startsShown = 12

/** What a host is made of: what its administrator would look up by hand. */
export function MachineSheet({ host }: { host: string }) {
  const machine = useMachine(host).data
  if (!machine) return null
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="machine-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="machine-title">What it is made of</h2>
        <Units state="failed" units={machine.failed} host={host} />
        <Units state="stuck" units={machine.stuck.map((u) => u.name)} host={host} />
      </div>
      {machine.unavailable ? (
        <p className="px-3.5 py-2.5 font-serif">Not available, because {machine.unavailable}.</p>
      ) : (
        <div className="grid grid-cols-2 items-start max-lg:grid-cols-1">
          <table aria-label="Facts" className="border-r border-rule max-lg:border-0">
            <tbody>
              {machineLines(machine).map(([what, text, why]) => (
                <tr key={what}>
                  <th scope="row" className="w-[30%]">
                    {what}
                  </th>
                  <td className={why ? 'text-ink-2' : ''}>{why ? why : shown(text)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div>
            <Links machine={machine} />
            <Starts machine={machine} host={host} />
          </div>
        </div>
      )}
    </section>
  )
}

function Links({ machine }: { machine: Machine }) {
  if (machine.links.length === 0) return null
  return (
    <table>
      <Heads columns={['Link', 'State', ['Line rate', 'num'], 'Addresses']} />
      <tbody>
        {machine.links.map((l) => (
          <tr key={l.name}>
            <th scope="row">{shown(l.name)}</th>
            <td>{l.state}</td>
            <td className="num">{l.mbit > 0 ? `${l.mbit / 1000} Gbit/s` : '–'}</td>
            <td>{l.addresses.join(', ')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** What init systems keep in units, each of which is named with its kind. */
const unitKinds = ['service', 'timer', 'socket', 'mount', 'path']

function Starts({ machine, host }: { machine: Machine; host: string }) {
  const mayAct = useMayAct()
  if (machine.starts.length === 0) return null
  const more = machine.starts.length - startsShown
  return (
    <>
      <table>
        <Heads columns={['Begins by itself', 'Kind', 'When', ...(mayAct ? ['Act'] : [])]} />
        <tbody>
          {machine.starts.slice(0, startsShown).map((s) => (
            <tr key={`${s.kind}/${s.name}/${s.when}`}>
              <th scope="row">{shown(s.name)}</th>
              <td>{s.kind}</td>
              <td className="text-ink-2">{shown(s.when)}</td>
              {mayAct && (
                <td>
                  {unitKinds.includes(s.kind) && s.name.endsWith(`.${s.kind}`) && (
                    <ActButton aim={{ form: 'unit', unit: s.name, name: s.name, host }} />
                  )}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {more > 0 && <p className="px-3.5 py-2 text-ink-2">{more} more</p>}
    </>
  )
}

/** Units that are in trouble, each with what can be done about it. */
function Units({ state, units, host }: { state: string; units: string[]; host: string }) {
  if (units.length === 0) return null
  return (
    <span className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
      <span className="font-semibold text-wine">{state}:</span>
      {units.map((unit) => (
        <span key={unit} className="inline-flex items-baseline gap-1.5">
          <span className="font-semibold text-wine">{shown(unit)}</span>
          <ActButton aim={{ form: 'unit', unit, name: unit, host }} />
        </span>
      ))}
    </span>
  )
}
