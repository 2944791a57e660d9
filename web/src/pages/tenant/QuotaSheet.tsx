import { useState } from 'react'
import { answer, api, type AllowanceStand, type Quota, type QuotaStand, type QuotaToSet } from '../../api/client'
import { useQuotaChanges } from '../../api/queries'
import { Ending, Outcome, useUndoable } from '../../figures/Acts'
import { List, type Column } from '../../figures/List'
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
  const unit = (s: QuotaStand) => quotaUnit(s.resource, s.unit, s.ceiling ?? s.soft ?? s.used_mean)
  const figures = (id: string, head: string, of: (s: QuotaStand) => number | null): Column<QuotaStand> => ({
    id,
    head,
    isFigure: true,
    value: of,
    cell: (s) => {
      const v = of(s)
      const isLack = id === 'left' && v !== null && v < 0
      return <span className={isLack ? 'font-semibold text-wine' : ''}>{v === null ? '–' : figure(v, unit(s))}</span>
    },
  })
  const columns: Column<QuotaStand>[] = [
    {
      id: 'resource',
      head: 'Of',
      isHead: true,
      className: 'whitespace-nowrap',
      value: (s) => s.resource,
      cell: (s) => (
        <>
          {limited(s.resource)} <span className="font-normal text-ink-2">{unit(s).name}</span>
        </>
      ),
    },
    { id: 'unit', head: 'Unit', value: (s) => s.unit, isHidden: true },
    {
      id: 'scope',
      head: 'On',
      className: 'whitespace-nowrap',
      value: (s) => scopeText(s.scope_kind, s.scope),
      cell: (s) => shown(scopeText(s.scope_kind, s.scope)),
    },
    {
      id: 'quota',
      head: 'Quota',
      isFigure: true,
      value: (s) => s.ceiling ?? s.soft,
      cell: (s) => (
        <>
          {s.ceiling === null && s.soft === null ? '–' : figure((s.ceiling ?? s.soft)!, unit(s))}
          {s.basis !== 'used' && <span className="text-ink-2"> {s.basis}</span>}
        </>
      ),
    },
    { id: 'basis', head: 'Basis', value: (s) => s.basis, isHidden: true },
    figures('used_mean', 'Used', (s) => s.used_mean),
    figures('held_mean', 'Held', (s) => s.held_mean),
    figures('left', 'Left', (s) => s.headroom),
    figures('now', 'Now', (s) => s.now),
    figures('p95', '95 %', (s) => s.p95),
    figures('peak_minute', 'Highest minute', (s) => s.peak_minute),
    {
      id: 'trend',
      head: 'Trend',
      value: () => null,
      isDrawn: true,
      cell: (s) => (
        <Trend
          points={s.trend.map((m) => m.mean)}
          mark={s.ceiling}
          label={`${limited(s.resource)} over the span, against its quota`}
        />
      ),
    },
    {
      id: 'stand',
      head: 'Stand',
      className: 'whitespace-nowrap',
      value: (s) => standWord(s),
      cell: (s) => <span className={standClass(s)}>{standWord(s)}</span>,
    },
  ]
  return (
    <List
      keep="quotas"
      name="quotas"
      rows={stands}
      columns={columns}
      rowKey={(s) => `${s.resource} ${s.scope_kind} ${s.scope}`}
      acts={(s) => ender({ resource: s.resource, scope_kind: s.scope_kind, scope: s.scope, window: '' })}
      below={(s) => {
        const notes = notesOf(s)
        return (
          notes.length > 0 &&
          notes.map((n) => (
            <p key={n} className="font-serif">
              {said(n)}
            </p>
          ))
        )
      }}
    />
  )
}

function standWord(s: QuotaStand) {
  if (s.over) return 'over'
  if (s.soft_over) return 'over soft mark'
  if (s.exceeded && s.exceeded.times > 0) return 'exceeded at times'
  return s.against_mean === null ? 'not known' : 'within'
}

function standClass(s: QuotaStand) {
  if (s.over) return 'font-semibold text-wine'
  if (s.soft_over || (s.exceeded && s.exceeded.times > 0)) return 'font-semibold text-amber'
  return s.against_mean === null ? 'text-ink-2' : ''
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
  const unit = (a: AllowanceStand) => quotaUnit(a.resource, a.unit, a.amount ?? a.soft)
  const figures = (id: string, head: string, of: (a: AllowanceStand) => number | null): Column<AllowanceStand> => ({
    id,
    head,
    isFigure: true,
    className: 'whitespace-nowrap',
    value: of,
    cell: (a) => quotaFigure(of(a), unit(a)),
  })
  const columns: Column<AllowanceStand>[] = [
    {
      id: 'resource',
      head: 'Allowance',
      isHead: true,
      value: (a) => a.resource,
      cell: (a) => {
        const part = a.amount && a.spent !== null ? Math.min(a.spent / a.amount, 1) : 0
        const background = a.state === 'exhausted' ? 'var(--wine)' : 'var(--vine)'
        return (
          <>
            {limited(a.resource)}
            <span className="mt-1 block h-1.5 w-28 bg-track" aria-hidden>
              <span className="block h-full" style={{ width: `${100 * part}%`, background }} />
            </span>
          </>
        )
      },
    },
    { id: 'unit', head: 'Unit', value: (a) => a.unit, isHidden: true },
    {
      id: 'scope',
      head: 'On',
      className: 'whitespace-nowrap',
      value: (a) => scopeText(a.scope_kind, a.scope),
      cell: (a) => shown(scopeText(a.scope_kind, a.scope)),
    },
    {
      id: 'window',
      head: 'For each',
      value: (a) => a.window,
      cell: (a) => (
        <>
          {a.window} <span className="text-ink-2">({a.zone})</span>
          <span className="block text-[12.5px] text-ink-2">until {moment(a.to)}</span>
        </>
      ),
    },
    { id: 'window_until', head: 'Until', value: (a) => a.to, isHidden: true },
    figures('allowed', 'Allowed', (a) => a.amount),
    figures('spent', 'Spent', (a) => a.spent),
    figures('left', 'Left', (a) => a.left),
    figures('a_day', 'A day', (a) => a.burn_per_day),
    {
      ...figures('expected', 'At the end', (a) => a.expected),
      cell: (a) => (
        <>
          {quotaFigure(a.expected, unit(a))}
          {a.expected_low !== null && a.expected_high !== null && (
            <span className="block text-[12.5px] text-ink-2">
              {figure(a.expected_low, unit(a))} to {figure(a.expected_high, unit(a))}
            </span>
          )}
        </>
      ),
    },
    {
      id: 'runs_out',
      head: 'Runs out',
      value: (a) => a.runs_out ?? null,
      cell: (a) => (
        <span title={a.method}>
          <RunsOut of={a} />
        </span>
      ),
    },
    { id: 'state', head: 'State', value: (a) => a.state, isHidden: true },
  ]
  return (
    <div className="border-t border-rule-2">
      <List
        keep="allowances"
        name="allowances"
        rows={all}
        columns={columns}
        rowKey={(a) => `${a.resource} ${a.scope} ${a.window}`}
        acts={(a) => ender({ resource: a.resource, scope_kind: a.scope_kind, scope: a.scope, window: a.window })}
      />
    </div>
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
