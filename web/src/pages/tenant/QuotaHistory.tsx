import { useState } from 'react'
import type { Quota } from '../../api/client'
import { useQuotaChanges } from '../../api/queries'
import { List } from '../../figures/List'
import { shown } from '../../figures/Name'
import { limited, quotaFigure, quotaUnit, scopeText } from '../../figures/quotas'
import { moment } from '../../figures/text'

/** Which quotas a tenant had when, who set them and why: what it used is judged by what was in force at the time. */
export function QuotaHistory({ tenant }: { tenant: string }) {
  const changes = useQuotaChanges(tenant)
  const [open, setOpen] = useState(false)
  if (!changes.data?.length) return null
  const mark = (c: Quota, v: number | null) =>
    v === null ? 'none' : quotaFigure(v, quotaUnit(c.resource, c.unit, c.ceiling ?? c.soft))
  return (
    <>
      <h3 className="border-t border-rule-2 px-3.5 py-2">
        <button type="button" aria-expanded={open} onClick={() => setOpen(!open)} className="font-[inherit]">
          {open ? '▾' : '▸'} Quotas and their history
        </button>
      </h3>
      {open && (
        <List
          keep="quota-history"
          name={`quota-history-${tenant}`}
          rows={changes.data}
          rowKey={(c) => c.resource + c.scope + c.window + c.applies_at + c.made_at}
          columns={[
            { id: 'of', head: 'Of', value: (c) => c.resource, cell: (c) => limited(c.resource) },
            { id: 'unit', head: 'Unit', value: (c) => c.unit, isHidden: true },
            {
              id: 'on',
              head: 'On',
              value: (c) => scopeText(c.scope_kind, c.scope),
              cell: (c) => shown(scopeText(c.scope_kind, c.scope)),
            },
            {
              id: 'window',
              head: 'For each',
              value: (c) => (c.window === '' ? 'moment' : `${c.window} (${c.zone})`),
            },
            {
              id: 'ceiling',
              head: 'Ceiling',
              isFigure: true,
              value: (c) => c.ceiling,
              cell: (c) => (
                <>
                  {mark(c, c.ceiling)}
                  {c.basis !== 'used' && <span className="text-ink-2"> {c.basis}</span>}
                </>
              ),
            },
            { id: 'soft', head: 'Soft mark', isFigure: true, value: (c) => c.soft, cell: (c) => mark(c, c.soft) },
            {
              id: 'applies_at',
              head: 'Applies from',
              value: (c) => c.applies_at,
              cell: (c) => moment(c.applies_at),
            },
            { id: 'made_by', head: 'Made by', value: (c) => c.made_by, cell: (c) => shown(c.made_by) },
            { id: 'reason', head: 'Reason', value: (c) => c.reason, cell: (c) => shown(c.reason) },
          ]}
        />
      )}
    </>
  )
}
