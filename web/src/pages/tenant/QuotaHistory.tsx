import { useState } from 'react'
import { useQuotaChanges } from '../../api/queries'
import { title, unitOf, whole } from '../../figures/units'
import { moment } from '../../figures/text'

/** Which quotas a tenant had when, who set them and why: what it used is judged by what was in force at the time. */
export function QuotaHistory({ tenant }: { tenant: string }) {
  const changes = useQuotaChanges(tenant)
  const [open, setOpen] = useState(false)
  if (!changes.data?.length) return null
  const mark = (resource: string, v: number | null) => {
    const unit = unitOf(resource, v)
    return v === null ? 'none' : `${whole(v, unit)} ${unit.name}`
  }
  return (
    <section className="sheet mb-4.5" aria-labelledby="quotas-title">
      <h2 id="quotas-title" className="px-3.5 py-2">
        <button type="button" aria-expanded={open} onClick={() => setOpen(!open)} className="font-[inherit]">
          {open ? '▾' : '▸'} Quotas and their history
        </button>
      </h2>
      {open && (
        <table>
          <thead>
            <tr>
              <th scope="col">Resource</th>
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
            {changes.data.map((c) => (
              <tr key={c.resource + c.applies_at + c.made_at}>
                <td>{title(c.resource)}</td>
                <td className="num">{mark(c.resource, c.ceiling)}</td>
                <td className="num">{mark(c.resource, c.soft)}</td>
                <td>{moment(c.applies_at)}</td>
                <td>{c.made_by}</td>
                <td>{c.reason}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}
