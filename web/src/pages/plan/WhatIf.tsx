import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState, type FormEvent } from 'react'
import { answer, api, type QuotaStand } from '../../api/client'
import { useTenants } from '../../api/queries'
import { said } from '../../figures/Name'
import { limited, quotaFigure, quotaUnit } from '../../figures/quotas'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { moment } from '../../figures/text'
import { meanText, title } from '../../figures/units'
import { resources } from '../../figures/register'
import { queryOf } from '../../time/span'
import { useTime } from '../../time/useTime'
import { notesOf } from '../tenant/QuotaSheet'
import type { PlanSearch } from './search'
import { Field, field } from './Field'

/** What another limit would have done to a workload over the span. */
export function WhatLimit() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const [draft, setDraft] = useState({
    workload: asked.workload ?? '',
    of: asked.of ?? 'cpu',
    limit: asked.limit ?? '',
  })
  const query =
    asked.workload && asked.limit
      ? { workload: asked.workload, of: asked.of ?? 'cpu', limit: Number(asked.limit) }
      : null
  const played = useQuery({
    queryKey: ['what-limit', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/limit', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({
      to: '/plan',
      search: { ...time, view: 'limit', workload: Number(draft.workload), of: draft.of, limit: draft.limit },
    })
  }
  const x = played.data
  return (
    <>
      <section className="sheet mb-4.5" aria-label="What is played again">
        <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
          <Field name="workload, by its number">
            <input
              className={`${field} w-32`}
              type="number"
              min={1}
              required
              value={draft.workload}
              onChange={(e) => setDraft({ ...draft, workload: e.target.value })}
            />
          </Field>
          <Field name="a limit of">
            <select className={field} value={draft.of} onChange={(e) => setDraft({ ...draft, of: e.target.value })}>
              <option value="cpu">CPU, in cores</option>
              <option value="memory">memory, in bytes</option>
            </select>
          </Field>
          <Field name="at">
            <input
              className={`${field} w-40`}
              inputMode="decimal"
              required
              pattern="[0-9]+(\.[0-9]+)?"
              value={draft.limit}
              onChange={(e) => setDraft({ ...draft, limit: e.target.value })}
            />
          </Field>
          <button type="submit" className="button button-vine">
            Play it again
          </button>
        </form>
      </section>
      {query && !x && <Waiting error={played.error} what="What would have been" />}
      {x && (
        <section className="sheet px-3.5 py-3" aria-label="What would have been">
          <p className="mb-2">
            <WorkloadLink id={x.workload.id} name={x.workload.name} />{' '}
            <span className="text-ink-2">{x.workload.tenant}</span>
          </p>
          <p className="mb-2 font-serif text-[15px]" role="status">
            {said(x.sentence)}
          </p>
          <p className="text-ink-2">
            Now: {x.now === null ? 'no limit of its own' : meanText(x.resource, x.now)}
            {x.freed !== null && x.freed > 0 && <>, of which {meanText(x.resource, x.freed)} would be freed</>}. Highest
            tick {meanText(x.resource, x.highest_tick)}; in 95 of 100 steps at most {meanText(x.resource, x.p95)}.
            {x.first && x.last && (
              <>
                {' '}
                Touched first at {moment(x.first)}, last until {moment(x.last)}.
              </>
            )}
          </p>
        </section>
      )}
    </>
  )
}

/** How a tenant would have stood against another ceiling over the span. */
export function WhatQuota() {
  const { span, search: time } = useTime()
  const asked = useSearch({ strict: false }) as PlanSearch
  const navigate = useNavigate()
  const tenants = useTenants().data ?? []
  const [draft, setDraft] = useState({
    holder: asked.holder ?? '',
    of: asked.of ?? 'cpu',
    limit: asked.limit ?? '',
    basis: asked.basis,
  })
  const query =
    asked.holder && asked.limit
      ? {
          tenant: asked.holder,
          of: asked.of ?? 'cpu',
          ceiling: Number(asked.limit),
          basis: asked.basis ?? ('used' as const),
        }
      : null
  const judged = useQuery({
    queryKey: ['what-quota', query, queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/whatif/quota', { params: { query: { ...query!, ...queryOf(span) } } })),
    enabled: query !== null,
    retry: false,
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    void navigate({
      to: '/plan',
      search: { ...time, view: 'quota', ...draft },
    })
  }
  return (
    <>
      <section className="sheet mb-4.5" aria-label="What is judged">
        <form onSubmit={submit} className="flex flex-wrap items-end gap-x-4 gap-y-2 px-3.5 py-3">
          <Field name="tenant">
            <select
              className={field}
              required
              value={draft.holder}
              onChange={(e) => setDraft({ ...draft, holder: e.target.value })}
            >
              <option value="" disabled>
                choose …
              </option>
              {tenants.map((t) => (
                <option key={t.name}>{t.name}</option>
              ))}
            </select>
          </Field>
          <Field name="a ceiling of">
            <select className={field} value={draft.of} onChange={(e) => setDraft({ ...draft, of: e.target.value })}>
              {resources().map((r) => (
                <option key={r} value={r}>
                  {title(r)}
                </option>
              ))}
            </select>
          </Field>
          <Field name="at (cores, bytes, bytes a second, GPUs, watts)">
            <input
              className={`${field} w-40`}
              inputMode="decimal"
              required
              pattern="[0-9]+(\.[0-9]+)?"
              value={draft.limit}
              onChange={(e) => setDraft({ ...draft, limit: e.target.value })}
            />
          </Field>
          <Field name="of what it">
            <select
              className={field}
              value={draft.basis ?? 'used'}
              onChange={(e) =>
                setDraft({
                  ...draft,
                  basis: e.target.value === 'used' ? undefined : (e.target.value as 'held' | 'greater'),
                })
              }
            >
              <option value="used">uses</option>
              <option value="held">holds (CPU, memory, GPUs)</option>
              <option value="greater">uses or holds, the greater</option>
            </select>
          </Field>
          <button type="submit" className="button button-vine">
            Play it again
          </button>
        </form>
      </section>
      {query && !judged.data && <Waiting error={judged.error} what="What would have been" />}
      {judged.data && <Judged s={judged.data} />}
    </>
  )
}

function Judged({ s }: { s: QuotaStand }) {
  const unit = quotaUnit(s.resource, s.unit, s.ceiling)
  const notes = notesOf(s)
  return (
    <section className="sheet px-3.5 py-3" aria-label="What would have been">
      <p className="mb-2">
        <strong className="font-semibold">{s.tenant}</strong>, {limited(s.resource)}: a ceiling of{' '}
        {quotaFigure(s.ceiling, unit)}; used {quotaFigure(s.used_mean, unit)} as a mean, {quotaFigure(s.p95, unit)} at
        most in 95 of 100 steps, {quotaFigure(s.peak_minute, unit)} in the highest minute
        {s.basis !== 'used' && (
          <>
            ; {s.basis === 'held' ? 'held' : 'the greater of used and held'} {quotaFigure(s.against_mean, unit)} as a
            mean
          </>
        )}
        .
      </p>
      {s.basis !== 'used' && s.over && (
        <p className="font-serif text-[15px] text-wine" role="status">
          That is {quotaFigure(-(s.headroom ?? 0), unit)} more than it would have had.
        </p>
      )}
      {notes.length === 0 && !s.over && <p className="font-serif text-[15px]">It would not have been exceeded.</p>}
      {notes.map((n) => (
        <p key={n} className="font-serif text-[15px]" role="status">
          {said(n)}
        </p>
      ))}
    </section>
  )
}
