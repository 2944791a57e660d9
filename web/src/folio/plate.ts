import type { Matter, Plate, Series, Subject } from '../api/client'
import type { SeriesQuestion } from '../api/queries'
import type { Layer, Told } from '../figures/chart/layers'

/** What each form is, for whoever chooses one. */
export const formWords: Record<string, string> = {
  number: 'a number: one figure, with how it went',
  filled: 'filled: a figure against what bounds it',
  line: 'a line: how it went over time',
  stack: 'a stack: groups on each other over time',
  bars: 'bars: groups below each other, from zero',
  parts: 'parts: groups as parts of the whole',
  table: 'a table: figures in lines',
  placement: 'placement: CPUs down, time across',
}

/** Of whom a plate can be, for whoever chooses. */
export const subjectWords: Record<string, string> = {
  fleet: 'all hosts',
  pool: 'a pool of hosts',
  host: 'a host',
  tenant: 'a tenant',
  user: 'a person',
  workload: 'a workload, by its number',
  where: 'workloads that an expression matches',
}

/** How many groups or lines are told apart where nothing else was chosen. */
export const usualFirst = 6

/** The forms that make sense of a matter, the one that is proposed first. */
export function formsOf(m: Matter | undefined, by: string | undefined, kind: string): string[] {
  return m?.forms.find((f) => f.grouped === !!by && f.subject === kind)?.forms ?? []
}

/** The form in which a plate is drawn: its own, or else the one that is proposed. */
export function drawn(p: Plate, m: Matter | undefined): string {
  return p.form || (formsOf(m, p.by, p.subject.kind)[0] ?? '')
}

/** Whom the page of a folio is of, where its plates leave that to it. */
export type Chosen = { host?: string; tenant?: string }

/** Whose figures a plate shows on a page; undefined while that is not chosen. */
export function subjectOn(s: Subject, chosen: Chosen): Subject | undefined {
  if (s.name || (s.kind !== 'host' && s.kind !== 'tenant')) return s
  const name = chosen[s.kind]
  return name ? { kind: s.kind, name } : undefined
}

/** Whose it is, in words. */
export function subjectText(s: Subject | undefined): string {
  if (!s || s.kind === 'fleet') return 'all hosts'
  if (s.kind === 'pool') return `pool ${s.name}`
  if (s.kind === 'workload') return `workload ${s.name}`
  if (s.kind === 'where') return `workloads with ${s.name}`
  return s.name ?? ''
}

/** What a plate is called: by its own title, or by what it shows. */
export function titleOf(p: Plate, m: Matter | undefined): string {
  if (p.title) return p.title
  if (p.form === 'placement') return 'Who ran on which CPU'
  return (m?.title ?? p.of) + (p.by ? ` by ${p.by.replace(/^label:/, 'label ')}` : '')
}

/** The question that a plate asks of a measure, or of a figure that is told of hosts' parts: each is a group. */
export function questionOf(p: Plate, s: Subject, isOfParts = false): SeriesQuestion {
  const who: Partial<SeriesQuestion> = {
    fleet: {},
    pool: { pool: s.name },
    host: { host: s.name },
    tenant: { tenant: s.name },
    user: { where: `owner == ${JSON.stringify(s.name)}` },
    workload: { workload: Number(s.name) },
    where: { where: s.name },
  }[s.kind]
  const groups = p.by ? { by: p.by } : {}
  const first = p.by || isOfParts ? { first: p.first || usualFirst } : {}
  return { of: p.of, ...groups, ...first, ...who, ...(p.step && { step: p.step }) }
}

/** The mean of what was told by step, over the time that it was told of; null where nothing was. */
export function meanOver(list: Told[] | undefined, seconds: number[]): number | null {
  let sum = 0
  let long = 0
  list?.forEach((v, k) => {
    if (v === null) return
    sum += v * seconds[k]!
    long += seconds[k]!
  })
  return long > 0 ? sum / long : null
}

/** Lines as parts of a whole: the groups, the rest, the kernel and what nobody had, with their means over the span. */
export function partsOf(series: Series, layers: Layer[]): { name: string; colour: string; mean: number }[] {
  return layers.flatMap((l) => {
    const mean = meanOver(l.mean, series.seconds)
    return mean === null ? [] : [{ name: l.name, colour: l.isUnknown ? 'var(--residual)' : l.colour, mean }]
  })
}

/** Measures and lists that have all of some words, those first that are called so. */
export function found(matters: Matter[], words: string): Matter[] {
  const want = words.toLowerCase().split(/\s+/).filter(Boolean)
  const rank = (m: Matter) => {
    const name = `${m.title} ${m.name.replaceAll('_', ' ')}`.toLowerCase()
    if (want.every((w) => name.includes(w))) return name.startsWith(want[0] ?? '') ? 0 : 1
    return want.every((w) => `${name} ${m.meaning} ${m.unit}`.toLowerCase().includes(w)) ? 2 : 3
  }
  return matters
    .map((m) => ({ m, rank: rank(m) }))
    .filter((x) => x.rank < 3)
    .sort((a, b) => a.rank - b.rank)
    .map((x) => x.m)
}
