import { readField, zoneName } from '../../time/zone'
import { useState } from 'react'
import type { QuotaToSet } from '../../api/client'
import { countedNames, limited, quotaUnit } from '../../figures/quotas'
import { entry, resources } from '../../figures/register'

const field = 'rounded-xs border border-rule-2 bg-sheet px-2 py-1'

/** In what allowances of a resource are told. */
function spentIn(resource: string): string {
  const e = entry(resource)
  if (e.steps === 'binary') return 'byte_hours'
  if (e.steps === 'decimal') return 'bytes'
  if (e.steps === 'hourly') return 'kwh'
  return e.unit.startsWith('gpu') ? 'gpu_hours' : 'core_hours'
}

/** A ceiling or an allowance that is to be put in force. What is typed is in the unit beside it. */
export function QuotaForm({ busy, onSet }: { busy: boolean; onSet: (resource: string, body: QuotaToSet) => void }) {
  const [resource, setResource] = useState(resources()[0] ?? 'cpu')
  const [window, setWindow] = useState('')
  const [ceiling, setCeiling] = useState('')
  const [soft, setSoft] = useState('')
  const [zone, setZone] = useState(zoneName())
  const [kind, setKind] = useState<'fleet' | 'pool' | 'host'>('fleet')
  const [scope, setScope] = useState('')
  const [basis, setBasis] = useState<'used' | 'held' | 'greater'>('used')
  const [from, setFrom] = useState('')
  const [reason, setReason] = useState('')
  const [isBeyond, setBeyond] = useState(false)
  const isCounted = countedNames.includes(resource)
  const told = isCounted
    ? resource.endsWith('_bytes')
      ? 'bytes'
      : 'count'
    : window !== ''
      ? spentIn(resource)
      : entry(resource).mean_unit
  const unit = quotaUnit(resource, told, null)
  const amount = (text: string) => (text.trim() === '' ? undefined : Number(text) * unit.per)
  return (
    <form
      className="flex flex-wrap items-end gap-3 border-b border-rule-2 px-3.5 py-3"
      aria-label="Set a quota"
      onSubmit={(e) => {
        e.preventDefault()
        onSet(resource, {
          ceiling: amount(ceiling),
          soft: amount(soft),
          scope_kind: kind,
          scope: kind === 'fleet' ? '' : scope,
          basis: window === '' ? basis : 'used',
          window,
          zone: window === '' ? '' : zone,
          from: readField(from),
          reason,
          beyond: isBeyond,
        })
      }}
    >
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">Of</span>
        <select className={field} value={resource} onChange={(e) => setResource(e.target.value)}>
          {[...resources(), ...(window === '' ? countedNames : [])].map((r) => (
            <option key={r} value={r}>
              {limited(r)}
            </option>
          ))}
        </select>
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">For</span>
        <input
          className={`${field} w-52`}
          list="windows"
          placeholder="every moment"
          value={window}
          onChange={(e) => setWindow(e.target.value)}
        />
        <datalist id="windows">
          {['day', 'week', 'month', '14 days from 2026-09-01'].map((w) => (
            <option key={w} value={w} />
          ))}
        </datalist>
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">
          {window === '' ? 'Ceiling' : 'Amount'} {unit.name && `(${unit.name})`}
        </span>
        <input
          className={`${field} num w-24`}
          inputMode="decimal"
          pattern="[0-9]*[.]?[0-9]*"
          value={ceiling}
          onChange={(e) => setCeiling(e.target.value)}
        />
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">Soft mark</span>
        <input
          className={`${field} num w-24`}
          inputMode="decimal"
          pattern="[0-9]*[.]?[0-9]*"
          value={soft}
          onChange={(e) => setSoft(e.target.value)}
        />
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">On</span>
        <select className={field} value={kind} onChange={(e) => setKind(e.target.value as 'fleet')}>
          <option value="fleet">all hosts</option>
          <option value="pool">a pool</option>
          <option value="host">a host</option>
        </select>
      </label>
      {kind !== 'fleet' && (
        <label className="grid">
          <span className="text-[12.5px] text-ink-2">Its name</span>
          <input className={field} required value={scope} onChange={(e) => setScope(e.target.value)} />
        </label>
      )}
      {window === '' ? (
        <label className="grid">
          <span className="text-[12.5px] text-ink-2">Against it</span>
          <select className={field} value={basis} onChange={(e) => setBasis(e.target.value as 'used')}>
            <option value="used">what is used</option>
            <option value="held">what is held</option>
            <option value="greater">the greater</option>
          </select>
        </label>
      ) : (
        <label className="grid">
          <span className="text-[12.5px] text-ink-2">Time zone</span>
          <input className={field} value={zone} onChange={(e) => setZone(e.target.value)} />
        </label>
      )}
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">From (now)</span>
        <input className={field} type="datetime-local" value={from} onChange={(e) => setFrom(e.target.value)} />
      </label>
      <label className="grid grow">
        <span className="text-[12.5px] text-ink-2">Reason</span>
        <input className={field} value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      <label className="flex items-baseline gap-1.5 pb-1">
        <input type="checkbox" checked={isBeyond} onChange={(e) => setBeyond(e.target.checked)} />
        more than is left of its whole
      </label>
      <button type="submit" className="rounded-xs bg-vine px-3 py-1 text-sheet" disabled={busy}>
        Set
      </button>
    </form>
  )
}
