import { Head } from './Heads'
import type { WorkloadUse } from '../api/client'
import { Source } from './Source'
import { isTold } from './register'
import { amountText, meanText, title, type CPUsOf } from './units'

/** What was used of each resource: amount, mean, highest tick, and how it was got. */
export function UseTable({ uses, of }: { uses: WorkloadUse[]; of?: CPUsOf }) {
  return (
    <table aria-label="Use">
      <thead>
        <tr>
          <Head name="Used" />
          <Head name="Amount" className="num" />
          <Head name="Mean" className="num" />
          <Head name="Highest tick" className="num" />
          <Head name="Last minute" className="num" />
          <Head name="Source" />
        </tr>
      </thead>
      <tbody>
        {uses.filter(isTold).map((u) => {
          const r = u.resource
          if (u.amount === null || u.mean === null)
            return (
              <tr key={r}>
                <th scope="row">{title(r)}</th>
                <td colSpan={4} className="text-ink-2">
                  {u.reason}
                </td>
                <td>{u.source}</td>
              </tr>
            )
          return (
            <tr key={r}>
              <th scope="row">{title(r)}</th>
              <td className="num">{amountText(r, u.amount)}</td>
              <td className="num">{meanText(r, u.mean, of)}</td>
              <td className="num text-ink-2">{u.peak === null ? '–' : meanText(r, u.peak, of)}</td>
              <td className="num">{u.now === null ? '–' : meanText(r, u.now, of)}</td>
              <td>
                <Source source={u.source} means={u.means} />
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}
