import { Fragment, useState } from 'react'
import { answer, api, type AllowanceStand, type Quota, type QuotaStand, type QuotaToSet } from '../../api/client'
import { useQuotaChanges } from '../../api/queries'
import { Ending, Outcome, useUndoable } from '../../figures/Acts'
import { said, shown } from '../../figures/Name'
import { lasted, limited, quotaFigure, quotaUnit, scopeText } from '../../figures/quotas'
import { moment } from '../../figures/text'
import { Trend } from '../../figures/Trend'
import { figure } from '../../figures/units'
import { QuotaForm } from './QuotaForm'
import { QuotaHistory } from './QuotaHistory'

/** What names a quota among a tenant's. */
type Named = Pick<Quota, 'resource' | 'scope_kind' | 'scope' | 'window'>

const isSame = (a: Named, b: Named) =>
  a.resource === b.resource && a.scope_kind === b.scope_kind && a.scope === b.scope && a.window === b.window

/** A tenant's quotas: how it stands against each, in its allowances, what was in force when; set, ended, undone. */
export function QuotaSheet({
  tenant,
  stands,
  allowances,
}: {
  tenant: string
  stands: QuotaStand[]
  allowances: AllowanceStand[]
}) {
  const changes = useQuotaChanges(tenant)
  const [isSetting, setSetting] = useState(false)
  const [ending, setEnding] = useState<Named | null>(null)
  const path = (resource: string) => ({ tenant, resource: resource as 'cpu' })
  const put = (resource: string, body: QuotaToSet) =>
    answer(api.PUT('/api/v1/quotas/{tenant}/{resource}', { params: { path: path(resource) }, body }))
  const end = (q: Named, reason: string) =>
    answer(
      api.DELETE('/api/v1/quotas/{tenant}/{resource}', {
        params: {
          path: path(q.resource),
          query: { reason, scope_kind: q.scope_kind as 'fleet', scope: q.scope, window: q.window },
        },
      }),
    )
  const again = (q: Quota): QuotaToSet => ({
    ceiling: q.ceiling ?? undefined,
    soft: q.soft ?? undefined,
    scope_kind: q.scope_kind,
    scope: q.scope,
    basis: q.basis,
    window: q.window,
    zone: q.zone,
    reason: 'undone',
    beyond: true,
  })
  /** The quota that is in force now, to go back to. */
  const standing = (q: Named) =>
    changes.data?.find(
      (c) => isSame(c, q) && Date.parse(c.applies_at) <= Date.now() && (c.ceiling !== null || c.soft !== null),
    )
  const act = useUndoable(() => {
    setSetting(false)
    setEnding(null)
  })
  const onSet = (resource: string, body: QuotaToSet) =>
    act.run(async () => {
      const named: Named = {
        resource,
        scope_kind: body.scope_kind ?? 'fleet',
        scope: body.scope ?? '',
        window: body.window ?? '',
      }
      const before = standing(named)
      const made = await put(resource, body)
      return {
        words: `The quota of ${limited(made.resource)} on ${scopeText(made.scope_kind, made.scope)} applies from ${moment(made.applies_at)} on.`,
        undo: () => (before ? put(resource, again(before)) : end({ ...named, window: made.window }, 'undone')),
      }
    })
  const onEnd = (q: Named, reason: string) =>
    act.run(async () => {
      const before = standing(q)
      await end(q, reason)
      return {
        words: `The quota of ${limited(q.resource)} on ${scopeText(q.scope_kind, q.scope)} has ended.`,
        undo: () => (before ? put(q.resource, again(before)) : Promise.resolve()),
      }
    })
  const ender = (q: Named) =>
    ending && isSame(ending, q) ? (
      <Ending busy={act.busy} onEnd={(reason) => onEnd(q, reason)} onLeave={() => setEnding(null)} />
    ) : (
      <button
        type="button"
        className="link"
        aria-label={`End the quota of ${limited(q.resource)} on ${scopeText(q.scope_kind, q.scope)}`}
        onClick={() => setEnding(q)}
      >
        end
      </button>
    )
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="quotas-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="quotas-title">Quotas</h2>
        <span className="text-[12.5px] text-ink-2">what it may have, what it has, and what is left, over the span</span>
        <button type="button" className="link ml-auto" aria-expanded={isSetting} onClick={() => setSetting(!isSetting)}>
          set a quota
        </button>
      </div>
      {isSetting && <QuotaForm busy={act.busy} onSet={onSet} />}
      <Outcome of={act} />
      {stands.length === 0 && allowances.length === 0 && <p className="p-3.5 font-serif">It has no quota.</p>}
      {stands.length > 0 && <Stands stands={stands} ender={ender} />}
      {allowances.length > 0 && <Allowances all={allowances} ender={ender} />}
      <QuotaHistory tenant={tenant} />
    </section>
  )
}

type Ender = (q: Named) => React.ReactNode

function Stands({ stands, ender }: { stands: QuotaStand[]; ender: Ender }) {
  return (
    <table>
      <thead>
        <tr>
          <th scope="col">Of</th>
          <th scope="col">On</th>
          {['Quota', 'Used', 'Held', 'Left', 'Now', '95 %', 'Highest minute'].map((head) => (
            <th key={head} scope="col" className="num">
              {head}
            </th>
          ))}
          <th scope="col">Trend</th>
          <th scope="col">Stand</th>
          <th scope="col">
            <span className="sr-only">Acts</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {stands.map((s) => {
          const unit = quotaUnit(s.resource, s.unit, s.ceiling ?? s.soft ?? s.used_mean)
          const text = (v: number | null) => (v === null ? '–' : figure(v, unit))
          const named = { resource: s.resource, scope_kind: s.scope_kind, scope: s.scope, window: '' }
          const notes = notesOf(s)
          return (
            <Fragment key={`${s.resource} ${s.scope_kind} ${s.scope}`}>
              <tr>
                <th scope="row" className="whitespace-nowrap">
                  {limited(s.resource)} <span className="font-normal text-ink-2">{unit.name}</span>
                </th>
                <td className="whitespace-nowrap">{shown(scopeText(s.scope_kind, s.scope))}</td>
                <td className="num">
                  {text(s.ceiling ?? s.soft)}
                  {s.basis !== 'used' && <span className="text-ink-2"> {s.basis}</span>}
                </td>
                {[s.used_mean, s.held_mean, s.headroom, s.now, s.p95, s.peak_minute].map((v, i) => (
                  <td key={i} className={`num ${i === 2 && v !== null && v < 0 ? 'font-semibold text-wine' : ''}`}>
                    {text(v)}
                  </td>
                ))}
                <td>
                  <Trend
                    points={s.trend.map((m) => m.mean)}
                    mark={s.ceiling}
                    label={`${limited(s.resource)} over the span, against its quota`}
                  />
                </td>
                <td className="whitespace-nowrap">{standOf(s)}</td>
                <td className="whitespace-nowrap">{ender(named)}</td>
              </tr>
              {notes.length > 0 && (
                <tr>
                  <td colSpan={12} className="font-serif">
                    {notes.map((n) => (
                      <p key={n}>{said(n)}</p>
                    ))}
                  </td>
                </tr>
              )}
            </Fragment>
          )
        })}
      </tbody>
    </table>
  )
}

function standOf(s: QuotaStand) {
  if (s.over) return <span className="font-semibold text-wine">over</span>
  if (s.soft_over) return <span className="font-semibold text-amber">over soft mark</span>
  if (s.exceeded && s.exceeded.times > 0) return <span className="font-semibold text-amber">exceeded at times</span>
  return s.against_mean === null ? <span className="text-ink-2">not known</span> : 'within'
}

/** For how long it was exceeded, who waited meanwhile, and what its figures lack. */
export function notesOf(s: QuotaStand): string[] {
  const notes: string[] = []
  const e = s.exceeded
  if (e && e.times > 0) {
    const times = e.times === 1 ? 'once' : `${e.times} times`
    let text = `Single minutes were above for ${lasted(e.minutes)}, ${times}, from ${moment(e.first!)} until ${moment(e.last!)}`
    const [first] = s.hurt
    if (s.hurt_told_by === '') text += '; whether that hurt anybody is not told.'
    else if (!first) text += '; nobody else waited for long meanwhile.'
    else {
      const more = s.hurt.length > 1 ? `, and ${s.hurt.length - 1} more waited too` : ''
      text += `; in the longest of these ${first.name} of ${first.tenant} waited ${Math.round(first.waited_seconds).toLocaleString('en')} s on ${first.host}${more}.`
    }
    notes.push(text)
  }
  if (s.basis !== 'used' && s.held_without_limit > 0)
    notes.push(`${s.held_without_limit} of its workloads have no limit below their whole host: they hold nothing.`)
  if (s.parts && s.parts.length > 0) notes.push(`With its parts: ${s.parts.join(', ')}.`)
  if (s.reason) notes.push(`Not available: ${s.reason}.`)
  return notes
}

function Allowances({ all, ender }: { all: AllowanceStand[]; ender: Ender }) {
  return (
    <table className="border-t border-rule-2">
      <thead>
        <tr>
          <th scope="col">Allowance</th>
          <th scope="col">On</th>
          <th scope="col">For each</th>
          {['Allowed', 'Spent', 'Left', 'A day', 'At the end'].map((head) => (
            <th key={head} scope="col" className="num">
              {head}
            </th>
          ))}
          <th scope="col">Runs out</th>
          <th scope="col">
            <span className="sr-only">Acts</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {all.map((a) => {
          const unit = quotaUnit(a.resource, a.unit, a.amount ?? a.soft)
          const text = (v: number | null) => quotaFigure(v, unit)
          const named = { resource: a.resource, scope_kind: a.scope_kind, scope: a.scope, window: a.window }
          const part = a.amount && a.spent !== null ? Math.min(a.spent / a.amount, 1) : 0
          return (
            <tr key={`${a.resource} ${a.scope} ${a.window}`}>
              <th scope="row">
                {limited(a.resource)}
                <span className="mt-1 block h-1.5 w-28 bg-track" aria-hidden>
                  <span
                    className="block h-full"
                    style={{
                      width: `${100 * part}%`,
                      background: a.state === 'exhausted' ? 'var(--wine)' : 'var(--vine)',
                    }}
                  />
                </span>
              </th>
              <td className="whitespace-nowrap">{shown(scopeText(a.scope_kind, a.scope))}</td>
              <td>
                {a.window} <span className="text-ink-2">({a.zone})</span>
                <span className="block text-[12.5px] text-ink-2">until {moment(a.to)}</span>
              </td>
              {[a.amount, a.spent, a.left, a.burn_per_day].map((v, i) => (
                <td key={i} className="num whitespace-nowrap">
                  {text(v)}
                </td>
              ))}
              <td className="num whitespace-nowrap">
                {text(a.expected)}
                {a.expected_low !== null && a.expected_high !== null && (
                  <span className="block text-[12.5px] text-ink-2">
                    {figure(a.expected_low, unit)} to {figure(a.expected_high, unit)}
                  </span>
                )}
              </td>
              <td title={a.method}>
                <RunsOut of={a} />
              </td>
              <td className="whitespace-nowrap">{ender(named)}</td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function RunsOut({ of: a }: { of: AllowanceStand }) {
  if (a.state === 'exhausted') return <span className="font-semibold text-wine">exhausted</span>
  if (a.runs_out)
    return (
      <span className="font-semibold text-wine">
        {moment(a.runs_out)}
        {a.runs_out_early && a.runs_out_late && (
          <span className="block text-[12.5px] font-normal text-ink-2">
            {moment(a.runs_out_early)} to {moment(a.runs_out_late)}
          </span>
        )}
      </span>
    )
  if (a.expected === null) return <span className="text-ink-2">{a.reason ?? 'not known'}</span>
  if (a.runs_out_early)
    return <span className="text-amber">perhaps, at the highest pace on {moment(a.runs_out_early)}</span>
  return <>{a.state === 'watched' ? 'no, but over its soft mark' : 'no'}</>
}
