import { Dialog } from 'radix-ui'
import { OverPage } from '../figures/OverPage'
import { useId, useMemo, useState, type ReactNode } from 'react'
import type { Matter, Plate, Subject } from '../api/client'
import { useAllHosts, useTenants } from '../api/queries'
import { tenantColour } from '../figures/units'
import type { Span } from '../time/span'
import { formsOf, formWords, found, subjectWords, usualFirst, type Chosen } from './plate'
import { PlateSheet } from './PlateSheet'

const field = 'rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5 text-[13px] text-ink'

/** How many measures are offered at once. */
const mostFound = 7

const steps = ['1m', '2m', '5m', '10m', '15m', '20m', '30m', '1h', '2h', '3h', '4h', '6h', '12h', '1d', '2d']

const empty: Plate = { of: '', subject: { kind: 'fleet' } }

/** Making a plate, or changing one: what it shows, of whom, in which form. Each choice shows at once. */
export function PlateDialog({
  title,
  matters,
  was,
  only,
  chosen,
  span,
  keep,
  close,
}: {
  title: string
  matters: Matter[]
  /** The plate that is changed; none for a new one. */
  was?: Plate
  /** The forms that fit where it is to stand; all where that is left out. */
  only?: string[]
  chosen: Chosen
  span: Span
  keep: (p: Plate) => void
  close: () => void
}) {
  const [plate, setPlate] = useState<Plate>(was ?? empty)
  const [words, setWords] = useState('')
  const offered = useMemo(() => {
    const fit = matters.filter((m) => !only || m.forms.some((f) => f.forms.some((x) => only.includes(x))))
    return found(fit, words)
  }, [matters, only, words])
  const matter = matters.find((m) => m.name === plate.of)
  const forms = formsOf(matter, plate.by, plate.subject.kind).filter((f) => !only || only.includes(f))
  const change = (part: Partial<Plate>) => setPlate(fitting({ ...plate, ...part }, matters, only))
  const lacks = whatLacks(plate, matter, only !== undefined)
  const drawnAs = plate.form || forms[0]
  const isOverTime = drawnAs === 'line' || drawnAs === 'stack'
  const isCut = !!plate.by || matter?.groupings.length === 0
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <OverPage title={title} width="66rem" top="4vh">
        <form
          className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-5 overflow-y-auto px-4 py-3 max-md:grid-cols-1"
          id="plate-form"
          onSubmit={(e) => {
            e.preventDefault()
            if (!lacks) keep(plate)
          }}
        >
          <div className="grid content-start gap-3">
            <fieldset>
              <legend className="text-[13px] text-ink-2">What it shows</legend>
              <input
                type="search"
                form="" // so that it does not end the form
                aria-label="Find a measure or a list by words"
                placeholder="Find by words: waiting for CPU, space, sign-ins…"
                className={`${field} mt-1 w-full`}
                value={words}
                autoFocus={!was}
                onChange={(e) => setWords(e.target.value)}
                onKeyDown={(e) => {
                  // The first that is found is taken, so that one need not leave the words.
                  if (e.key !== 'Enter') return
                  e.preventDefault()
                  if (offered[0]) change({ of: offered[0].name })
                }}
              />
              <p className="sr-only" role="status">
                {words !== '' && `${offered.length} found`}
              </p>
              <div className="mt-1.5 max-h-56 overflow-y-auto">
                {shownOf(offered, matter, words).map((m) => (
                  <label key={m.name} className="flex cursor-pointer gap-2 py-0.5 text-[13px]">
                    <input
                      type="radio"
                      name="of"
                      className="mt-1 self-start"
                      checked={plate.of === m.name}
                      onChange={() => change({ of: m.name })}
                    />
                    <span>
                      <b className="font-semibold">{m.title}</b>{' '}
                      <span className="text-ink-2">{m.unit.replaceAll('_', ' ')}</span>
                      <small className="block text-[12px] text-ink-2">{m.meaning}</small>
                    </span>
                  </label>
                ))}
                {offered.length === 0 && (
                  <p className="font-serif text-[13px]">Nothing that can be shown has all of these words.</p>
                )}
                {offered.length > mostFound && (
                  <p className="text-[12px] text-ink-2">{offered.length - mostFound} more: write more words.</p>
                )}
              </div>
            </fieldset>
            {matter && (
              <Whose
                subject={plate.subject}
                kinds={matter.subjects}
                isAsked={only === undefined}
                set={(subject) => change({ subject })}
              />
            )}
            {matter && matter.groupings.length > 0 && !only && (
              <Grouping by={plate.by ?? ''} groupings={matter.groupings} set={(by) => change({ by })} />
            )}
          </div>
          <div className="grid content-start gap-3">
            {forms.length > 0 && (
              <fieldset>
                <legend className="text-[13px] text-ink-2">How it is drawn</legend>
                {forms.map((f, i) => (
                  <label key={f} className="flex cursor-pointer gap-2 min-h-7 items-center text-[13px]">
                    <input type="radio" name="form" checked={drawnAs === f} onChange={() => change({ form: f })} />
                    {formWords[f] ?? f}
                    {i === 0 && <span className="text-ink-2">(proposed)</span>}
                  </label>
                ))}
              </fieldset>
            )}
            {matter && (
              <div className="grid grid-cols-[8rem_1fr] items-center gap-x-3 gap-y-1.5">
                <Line name="Title">
                  {(id) => (
                    <input
                      id={id}
                      className={`${field} w-full`}
                      maxLength={120}
                      placeholder="what it shows, in words"
                      value={plate.title ?? ''}
                      onChange={(e) => change({ title: e.target.value })}
                    />
                  )}
                </Line>
                {isCut && (
                  <Line name={plate.by ? 'Told apart' : 'Lines'}>
                    {(id) => (
                      <input
                        id={id}
                        type="number"
                        min={1}
                        max={50}
                        className={`${field} w-20`}
                        placeholder={String(plate.by ? usualFirst : 8)}
                        value={plate.first || ''}
                        onChange={(e) => change({ first: Math.min(50, Math.max(0, Number(e.target.value) || 0)) })}
                      />
                    )}
                  </Line>
                )}
                {isOverTime && (
                  <Line name="Step">
                    {(id) => (
                      <select
                        id={id}
                        className={field}
                        value={plate.step ?? ''}
                        onChange={(e) => change({ step: e.target.value })}
                      >
                        <option value="">what suits the span</option>
                        {steps.map((s) => (
                          <option key={s}>{s}</option>
                        ))}
                      </select>
                    )}
                  </Line>
                )}
                {matter.groupings.length > 0 && plate.by !== 'tenant' && (
                  <Colour colour={plate.colour ?? 0} set={(colour) => change({ colour })} />
                )}
                {!only && (
                  <Line name="Width">
                    {(id) => (
                      <select
                        id={id}
                        className={field}
                        value={plate.width || 1}
                        onChange={(e) => change({ width: Number(e.target.value) })}
                      >
                        {[1, 2, 3, 4, 5, 6].map((w) => (
                          <option key={w} value={w}>
                            {w === 1 ? 'as usual' : `${w} times as wide`}
                          </option>
                        ))}
                      </select>
                    )}
                  </Line>
                )}
              </div>
            )}
            {matter && !lacks && (
              <div className="overflow-hidden" aria-label="As it will look" role="group">
                <PlateSheet plate={plate} matter={matter} chosen={chosen} span={span} high={only ? 80 : 170} />
              </div>
            )}
          </div>
        </form>
        <div className="flex flex-wrap items-baseline gap-3 border-t border-rule-2 px-4 py-2.5">
          <button type="submit" form="plate-form" className="button button-vine" disabled={!!lacks}>
            {was ? 'Change it' : 'Add it'}
          </button>
          <Dialog.Close asChild>
            <button type="button" className="button">
              Leave it
            </button>
          </Dialog.Close>
          {lacks && (
            <span className="text-[12.5px] text-ink-2" role="status">
              {lacks}
            </span>
          )}
        </div>
      </OverPage>
    </Dialog.Root>
  )
}

/** The first that were found; before anything is looked for, with the one that is chosen. */
function shownOf(offered: Matter[], chosen: Matter | undefined, words: string): Matter[] {
  const first = offered.slice(0, mostFound)
  return chosen && words === '' && !first.includes(chosen) ? [chosen, ...first.slice(0, -1)] : first
}

/** A plate whose parts fit each other: what no longer makes sense of what it shows is as usual again. */
export function fitting(p: Plate, matters: Matter[], only?: string[]): Plate {
  const m = matters.find((x) => x.name === p.of)
  if (!m) return p
  const subject = m.subjects.includes(p.subject.kind) ? p.subject : ({ kind: m.subjects[0] } as Subject)
  const by = p.by && (m.groupings.includes(p.by) || (p.by.startsWith('label:') && m.groupings.length > 0)) ? p.by : ''
  const forms = formsOf(m, by, subject.kind).filter((f) => !only || only.includes(f))
  const form = p.form && forms.includes(p.form) ? p.form : only ? (forms[0] ?? '') : ''
  return { ...p, subject, by, form }
}

/** What a plate still lacks, for whoever composes it; undefined where it is whole. */
export function whatLacks(p: Plate, m: Matter | undefined, isNamed: boolean): string | undefined {
  if (!m) return 'Choose what it shows.'
  const { kind, name } = p.subject
  if (name || kind === 'fleet') {
    if (kind === 'workload' && !/^\d+$/.test(name ?? ''))
      return 'A workload is named by its number, as in the address of its page.'
    return p.by === 'label:' ? 'Which label is it grouped by?' : undefined
  }
  if ((kind === 'host' || kind === 'tenant') && !isNamed) return undefined
  return kind === 'where' ? 'Write an expression, as rules have.' : `Of which ${kind === 'user' ? 'person' : kind}?`
}

function Line({ name, children }: { name: string; children: (id: string) => ReactNode }) {
  const id = useId()
  return (
    <>
      <label htmlFor={id} className="text-[13px] text-ink-2">
        {name}
      </label>
      <div>{children(id)}</div>
    </>
  )
}

/** Whose figures: a kind, and which of it. */
function Whose({
  subject,
  kinds,
  isAsked,
  set,
}: {
  subject: Subject
  kinds: string[]
  /** It may be left to the page. */
  isAsked: boolean
  set: (s: Subject) => void
}) {
  const list = useId()
  const hosts = useAllHosts().data ?? []
  const tenants = useTenants().data ?? []
  const names: Record<string, string[]> = {
    host: hosts.map((h) => h.name),
    tenant: tenants.map((t) => t.name),
    pool: [...new Set(hosts.flatMap((h) => h.pools))].sort(),
  }
  const isOpen = isAsked && (subject.kind === 'host' || subject.kind === 'tenant')
  return (
    <fieldset className="flex flex-wrap items-baseline gap-2">
      <legend className="text-[13px] text-ink-2">Of whom</legend>
      <select
        aria-label="Of whom"
        className={field}
        value={subject.kind}
        onChange={(e) => set({ kind: e.target.value as Subject['kind'] })}
      >
        {kinds.map((k) => (
          <option key={k} value={k}>
            {subjectWords[k] ?? k}
          </option>
        ))}
      </select>
      {subject.kind !== 'fleet' && (
        <>
          <input
            aria-label={`Which of ${subjectWords[subject.kind]}`}
            list={names[subject.kind] ? list : undefined}
            className={`${field} w-64 max-w-full`}
            placeholder={isOpen ? 'chosen on the page' : subject.kind === 'where' ? "kind == 'job'" : ''}
            value={subject.name ?? ''}
            onChange={(e) => set({ ...subject, name: e.target.value })}
          />
          <datalist id={list}>
            {names[subject.kind]?.map((n) => (
              <option key={n} value={n} />
            ))}
          </datalist>
        </>
      )}
    </fieldset>
  )
}

function Grouping({ by, groupings, set }: { by: string; groupings: string[]; set: (by: string) => void }) {
  const isLabel = by.startsWith('label:')
  return (
    <fieldset className="flex flex-wrap items-baseline gap-2">
      <legend className="text-[13px] text-ink-2">Grouped by</legend>
      <select
        aria-label="Grouped by"
        className={field}
        value={isLabel ? 'label:' : by}
        onChange={(e) => set(e.target.value)}
      >
        <option value="">nothing: all in one</option>
        {groupings.map((g) => (
          <option key={g} value={g}>
            {g.replaceAll('_', ' ')}
          </option>
        ))}
        <option value="label:">a label</option>
      </select>
      {isLabel && (
        <input
          aria-label="Which label"
          className={`${field} w-44`}
          value={by.slice('label:'.length)}
          onChange={(e) => set(`label:${e.target.value}`)}
        />
      )}
    </fieldset>
  )
}

function Colour({ colour, set }: { colour: number; set: (c: number) => void }) {
  return (
    <fieldset className="col-span-2 grid grid-cols-subgrid items-center">
      <legend className="contents text-[13px] text-ink-2">
        <span>Colour</span>
      </legend>
      <div className="col-start-2 flex flex-wrap gap-2.5 text-[13px]">
        {[0, 1, 2, 3, 4, 5, 6, 7, 8].map((c) => (
          <label key={c} className="flex h-6 min-w-6 cursor-pointer items-center gap-1">
            <input
              type="radio"
              name="colour"
              aria-label={c === 0 ? 'Usual colour' : `Colour ${c}`}
              checked={colour === c}
              onChange={() => set(c)}
            />
            {c === 0 ? 'usual' : <span className="sw" style={{ background: tenantColour(c) }} />}
          </label>
        ))}
      </div>
    </fieldset>
  )
}
