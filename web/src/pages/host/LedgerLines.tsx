import type { Ledger } from '../../api/client'
import { Meaning } from '../../figures/BalanceBar'
import { figure, unitOf, cpusOf } from '../../figures/units'

/** The lines that make a host's ledger add up, under its shares. */
export function LedgerLines({ ledger }: { ledger: Ledger }) {
  const unit = unitOf(ledger.resource, ledger.capacity, cpusOf(ledger.host, ledger.cpus))
  const mean = (v: number) =>
    ledger.mean_unit === 'bytes' || ledger.elapsed_seconds === 0 ? v : v / ledger.elapsed_seconds
  const lines = [
    { name: 'Kernel', value: ledger.kernel, note: ledger.notes?.kernel },
    { name: 'Idle', value: ledger.idle, note: ledger.notes?.idle },
    { name: 'Residual', value: ledger.residual, note: ledger.notes?.residual, why: ledger.residual_negative },
    { name: 'Capacity', value: ledger.capacity, note: ledger.notes?.capacity, sum: true },
  ]
  return (
    <table aria-label="Lines of the ledger">
      <tbody>
        {lines.map((l) => (
          <tr key={l.name} className={l.sum ? 'sum' : 'soft'}>
            <th scope="row">{l.why ? <Meaning meaning={`It is below zero: ${l.why}.`}>{l.name}</Meaning> : l.name}</th>
            <td className="num">
              {l.value === null
                ? `not available: ${l.note}`
                : `${figure(mean(l.value), { ...unit, digits: unit.digits + 1 })} ${unit.name}`}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
