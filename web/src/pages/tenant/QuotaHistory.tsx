import { useState } from 'react'
import { useQuotaChanges } from '../../api/queries'
import { shown } from '../../figures/Name'
import { limited, quotaFigure, quotaUnit, scopeText } from '../../figures/quotas'
import { moment } from '../../figures/text'

/** Which quotas a tenant had when, who set them and why: what it used is judged by what was in force at the time. */
export function QuotaHistory({ tenant }: { tenant: string }) {
  const changes = useQuotaChanges(tenant)
  const [open, setOpen] = useState(false)
  if (!changes.data?.length) return null
  return (
    <>
      <h3 className="border-t border-rule-2 px-3.5 py-2">
        <button type="button" aria-expanded={open} onClick={() => setOpen(!open)} className="font-[inherit]">
          {open ? '▾' : '▸'} Quotas and their history
        </button>
      </h3>
      {open && (
        <table>
          <thead>
            <tr>
              <th scope="col">Of</th>
              <th scope="col">On</th>
              <th scope="col">For each</th>
              <th scope="col" className="num">
                Ceiling
              </th>
              <th scope="col" className="num">
                Soft mark
              </th>
              <th scope="col">Applies from</th>
              <th scope="col">Made by</th>
              <th scope="col">Reason</th>
            </tr>
          </thead>
          <tbody>
            {changes.data.map((c) => {
              const unit = quotaUnit(c.resource, c.unit, c.ceiling ?? c.soft)
              const mark = (v: number | null) => (v === null ? 'none' : quotaFigure(v, unit))
              return (
                <tr key={c.resource + c.scope + c.window + c.applies_at + c.made_at}>
                  <td>{limited(c.resource)}</td>
                  <td>{shown(scopeText(c.scope_kind, c.scope))}</td>
                  <td>{c.window === '' ? 'moment' : `${c.window} (${c.zone})`}</td>
                  <td className="num">
                    {mark(c.ceiling)}
                    {c.basis !== 'used' && <span className="text-ink-2"> {c.basis}</span>}
                  </td>
                  <td className="num">{mark(c.soft)}</td>
                  <td>{moment(c.applies_at)}</td>
                  <td>{shown(c.made_by)}</td>
                  <td>{shown(c.reason)}</td>
                </tr>
              )
            })}
          </tbody>
        </table>
      )}
    </>
  )
}
