/** What can be planned or played again. */
export const views = {
  cpus: 'CPUs',
  sizes: 'Sizes',
  hosts: 'Hosts',
  place: 'A place',
  growth: 'Growth',
  limit: 'Another limit',
  quota: 'Another quota',
  pins: 'Other pins',
  weight: 'Another weight',
} as const

export type PlanView = keyof typeof views

export type PlanSearch = {
  view?: PlanView
  workload?: number
  of?: string
  limit?: string
  /** What is held against a quota, where that is not what is used. */
  basis?: 'held' | 'greater'
  percentile?: number
  spare?: number
  holder?: string
  kind?: 'workload' | 'rule'
  cpus?: number
  /** CPUs by their numbers, in the kernel's list format. */
  list?: string
  host?: string
  pool?: string
  shared?: true
  keep?: number
  without?: string
  add?: number
  cores?: number
  gib?: number
  gpus?: number
}

const text = (v: unknown) => (typeof v === 'string' && v !== '' ? v : undefined)
const count = (v: unknown) => {
  const n = Number(v)
  return Number.isInteger(n) && n > 0 && n <= 8192 ? n : undefined
}

const within = (v: unknown, least: number, most: number) => {
  const n = typeof v === 'number' || (typeof v === 'string' && v !== '') ? Number(v) : NaN
  return n >= least && n <= most ? n : undefined
}

/** Keeps of an address what is planned, or played again. */
export function readPlan(search: Record<string, unknown>): PlanSearch {
  const workload = Number(search.workload)
  const view = typeof search.view === 'string' && search.view in views ? (search.view as PlanView) : undefined
  return {
    view: view === 'cpus' ? undefined : view,
    workload: Number.isSafeInteger(workload) && workload > 0 ? workload : undefined,
    of: text(search.of),
    percentile: within(search.percentile, 50, 100),
    spare: within(search.spare, 0, 90),
    limit: typeof search.limit === 'number' ? String(search.limit) : text(search.limit),
    basis: search.basis === 'held' || search.basis === 'greater' ? search.basis : undefined,
    holder: typeof search.holder === 'number' ? String(search.holder) : text(search.holder),
    kind: search.kind === 'workload' || search.kind === 'rule' ? search.kind : undefined,
    cpus: count(search.cpus),
    list: typeof search.list === 'number' ? String(search.list) : text(search.list),
    host: text(search.host),
    pool: text(search.pool),
    shared: search.shared === true || search.shared === 'true' ? true : undefined,
    keep: count(search.keep),
    without: text(search.without),
    add: count(search.add),
    cores: within(search.cores, 0, 8192),
    gib: within(search.gib, 0, 65_536),
    gpus: count(search.gpus),
  }
}

/** What of it the service is asked; null until it says for whom and how many. */
export function planQuery(p: PlanSearch) {
  if (!p.holder || !p.cpus) return null
  return {
    holder: p.holder,
    holder_kind: p.kind ?? ('tenant' as const),
    cpus: p.cpus,
    host: p.host,
    pool: p.host ? undefined : p.pool,
    shared: p.shared,
    keep: p.keep ?? 1,
  }
}
