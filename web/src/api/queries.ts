import { useInfiniteQuery, useQuery, useQueryClient, keepPreviousData } from '@tanstack/react-query'
import { useEffect, useMemo } from 'react'
import { queryOf, type Span } from '../time/span'
import { answer, api, type PinAudit, type Tenant } from './client'

export type Dimension = 'tenant' | 'user' | 'workload' | 'kind' | 'host' | 'program'

const figures = 'figures' // keys that begin so are asked again when new figures are in the books

export function useIdentity() {
  return useQuery({ queryKey: ['me'], queryFn: () => answer(api.GET('/api/v1/me')), retry: false, staleTime: 300_000 })
}

/** The service's register of measures: it changes only with the service. */
export function useMeasures(enabled: boolean) {
  return useQuery({
    queryKey: ['measures'],
    queryFn: () => answer(api.GET('/api/v1/measures')),
    staleTime: Infinity,
    enabled,
  })
}

export function useBalance(span: Span, host?: string) {
  return useQuery({
    queryKey: [figures, 'balance', queryOf(span), host],
    queryFn: () => answer(api.GET('/api/v1/balance', { params: { query: { ...queryOf(span), host } } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

const hostsAtOnce = 25

/** Hosts and how tenants stand on each, some at a time by their names. */
export function useHostPages(span: Span) {
  return useInfiniteQuery({
    queryKey: [figures, 'host pages', queryOf(span)],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) => {
      const query = { first: hostsAtOnce, after: pageParam }
      const [hosts, balances] = await Promise.all([
        api.GET('/api/v1/hosts', { params: { query } }),
        answer(api.GET('/api/v1/balances', { params: { query: { ...queryOf(span), ...query } } })),
      ])
      return {
        hosts: await answer(Promise.resolve(hosts)),
        inAll: Number(hosts.response.headers.get('X-In-All')),
        next: hosts.response.headers.get('X-Next-Page'),
        balances,
      }
    },
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  })
}

const unheardShown = 5

/** The first of the hosts that do not report, and how many there are. */
export function useUnheard() {
  return useQuery({
    queryKey: [figures, 'unheard'],
    queryFn: async () => {
      const got = await api.GET('/api/v1/hosts', { params: { query: { unheard: true, first: unheardShown } } })
      return { hosts: await answer(Promise.resolve(got)), inAll: Number(got.response.headers.get('X-In-All')) }
    },
  })
}

export function useHost(name: string) {
  return useQuery({
    queryKey: [figures, 'host', name],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}', { params: { path: { name } } })),
    meta: { host: name },
  })
}

export type LedgerQuestion = { of: string; by: Dimension; host?: string; tenant?: string; first?: number }

// The description lists the measures of its day; the register has those of now, so a measure is any text here.
export function useLedger(span: Span, q: LedgerQuestion) {
  return useQuery({
    queryKey: [figures, 'ledger', queryOf(span), q],
    queryFn: () =>
      answer(api.GET('/api/v1/ledger', { params: { query: { ...queryOf(span), ...q, of: q.of as 'cpu' } } })),
    placeholderData: keepPreviousData,
    meta: { host: q.host },
  })
}

export type SeriesQuestion = {
  of: string
  by?: string
  host?: string
  tenant?: string
  workload?: number
  where?: string
  first?: number
}

/** How a measure went over a span. */
export function useSeries(span: Span, q: SeriesQuestion) {
  return useQuery({
    queryKey: [figures, 'series', queryOf(span), q],
    queryFn: () =>
      answer(api.GET('/api/v1/series', { params: { query: { ...queryOf(span), ...q, of: q.of as 'cpu' } } })),
    placeholderData: keepPreviousData,
    meta: { host: q.host },
  })
}

/** What happened in a span, the newest first. */
export function useEvents(span: Span, q: { host?: string; tenant?: string; workload?: number }) {
  return useQuery({
    queryKey: [figures, 'events', queryOf(span), q],
    queryFn: () => answer(api.GET('/api/v1/events/past', { params: { query: { ...queryOf(span), ...q } } })),
    placeholderData: keepPreviousData,
    meta: { host: q.host },
  })
}

export function useTimeline(from: Date, to: Date, host?: string) {
  // By the minute, so that a ruler that moves on does not ask every second.
  const minute = (d: Date) => new Date(Math.floor(d.getTime() / 60_000) * 60_000).toISOString()
  const query = { from: minute(from), to: minute(to), host }
  return useQuery({
    queryKey: [figures, 'timeline', query],
    queryFn: () => answer(api.GET('/api/v1/timeline', { params: { query } })),
    placeholderData: keepPreviousData,
  })
}

export function usePins(span: Span, host?: string) {
  return useQuery<PinAudit[]>({
    queryKey: [figures, 'pins', queryOf(span), host],
    queryFn: () => answer(api.GET('/api/v1/pins', { params: { query: { ...queryOf(span), host } } })),
    placeholderData: keepPreviousData,
  })
}

/** What tenants hold and do not use. */
export function useUnused(span: Span) {
  return useQuery({
    queryKey: [figures, 'unused', queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/unused', { params: { query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

/** All declarations of CPUs of a host, those that are over too. */
export function useDeclaredPins(host: string) {
  return useQuery({
    queryKey: ['declared-pins', host],
    queryFn: () => answer(api.GET('/api/v1/pins/declared', { params: { query: { host } } })),
  })
}

/** What keeps workloads of a host on some of its CPUs now, and what is left for everybody. */
export function useEffective(host: string, enabled: boolean) {
  return useQuery({
    queryKey: ['effective-pins', host],
    queryFn: () => answer(api.GET('/api/v1/hosts/{host}/pins', { params: { path: { host } } })),
    enabled,
  })
}

/** The busiest drives, and the users that moved most of each. */
export function useDisks(span: Span, cut: { first: number; users: number }) {
  return useQuery({
    queryKey: [figures, 'disks', queryOf(span), cut],
    queryFn: () => answer(api.GET('/api/v1/disks', { params: { query: { ...queryOf(span), ...cut } } })),
    placeholderData: keepPreviousData,
  })
}

/** What a host is made of. */
export function useMachine(host: string) {
  return useQuery({
    queryKey: ['machine', host],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}/machine', { params: { path: { name: host } } })),
    staleTime: 60_000,
    meta: { host },
  })
}

/** Every change of a tenant's quotas, the one first that applies last. */
export function useQuotaChanges(tenant: string) {
  return useQuery({
    queryKey: ['quota-changes', tenant],
    queryFn: () => answer(api.GET('/api/v1/quotas/changes', { params: { query: { tenant } } })),
  })
}

/** What the sensors of a host told last, the most urgent first. */
export function useSensors(host: string) {
  return useQuery({
    queryKey: [figures, 'sensors', host],
    queryFn: () => answer(api.GET('/api/v1/sensors', { params: { query: { host } } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

/** The GPUs of a host, or of all; or everything about one of them. */
export function useGPUs(span: Span, host?: string, device?: string) {
  return useQuery({
    queryKey: [figures, 'gpus', queryOf(span), host, device],
    queryFn: () => answer(api.GET('/api/v1/gpus', { params: { query: { ...queryOf(span), host, device } } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

export type LinksCut = { host?: string; first?: number; within?: number; users?: number }

/** The interfaces of the hosts that moved most, and the workloads that did. */
export function useLinks(span: Span, cut: LinksCut, enabled = true) {
  return useQuery({
    queryKey: [figures, 'interfaces', queryOf(span), cut],
    queryFn: () => answer(api.GET('/api/v1/interfaces', { params: { query: { ...queryOf(span), ...cut } } })),
    placeholderData: keepPreviousData,
    meta: { host: cut.host },
    enabled,
  })
}

export function useMemory(span: Span, host: string) {
  return useQuery({
    queryKey: [figures, 'memory', queryOf(span), host],
    queryFn: () =>
      answer(api.GET('/api/v1/hosts/{name}/memory', { params: { path: { name: host }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

export function useCPUs(span: Span, host: string) {
  return useQuery({
    queryKey: [figures, 'cpus', queryOf(span), host],
    queryFn: () =>
      answer(api.GET('/api/v1/hosts/{name}/cpus', { params: { path: { name: host }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

export function useWorkload(span: Span, id: number) {
  return useQuery({
    queryKey: [figures, 'workload', queryOf(span), id],
    queryFn: () => answer(api.GET('/api/v1/workloads/{id}', { params: { path: { id }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

export function useUser(span: Span, name: string, first: number) {
  return useQuery({
    queryKey: [figures, 'user', queryOf(span), name, first],
    queryFn: () =>
      answer(
        api.GET('/api/v1/about/{what}/{name}', {
          params: { path: { what: 'user', name }, query: { ...queryOf(span), first } },
        }),
      ),
    placeholderData: keepPreviousData,
  })
}

export function useFound(words: string) {
  return useQuery({
    queryKey: [figures, 'find', words],
    queryFn: () => answer(api.GET('/api/v1/find', { params: { query: { words } } })),
    enabled: words !== '',
    placeholderData: keepPreviousData,
  })
}

/** The rules with the version of their list, which a change of order must name. */
export function useRules() {
  return useQuery({
    queryKey: ['rules'],
    queryFn: async () => {
      const call = await api.GET('/api/v1/rules')
      return { rules: await answer(Promise.resolve(call)), version: call.response.headers.get('ETag') ?? '' }
    },
  })
}

export function useTenants() {
  return useQuery({ queryKey: ['tenants'], queryFn: () => answer(api.GET('/api/v1/tenants')) })
}

const noTenants: Tenant[] = []

/** Which colour is whose: all tenants, and what is of none. */
export function useColours(): { tenants: Tenant[]; colours: Map<string, number> } {
  const tenants = useTenants().data ?? noTenants
  return useMemo(
    () => ({
      tenants: [...tenants, { name: 'unassigned', colour: 0, part_of: '' }],
      colours: new Map(tenants.map((t) => [t.name, t.colour])),
    }),
    [tenants],
  )
}

export function useSuggestions(span: Span) {
  return useQuery({
    queryKey: [figures, 'suggestions', queryOf(span)],
    queryFn: () => answer(api.GET('/api/v1/rules/suggestions', { params: { query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

// Milliseconds without a commit after which figures are asked for again, and the longest that this is put off: many
// hosts commit all the time.
const calm = 400
const longestWait = 5000

/**
 * While live, asks for figures again soon after new ones are in the books. What is about one host is asked for again only
 * when that host has told something.
 */
export function useLiveRefresh(live: boolean) {
  const queries = useQueryClient()
  useEffect(() => {
    if (!live) return
    let events: EventSource
    let soon: ReturnType<typeof setTimeout> | undefined
    let since: number | undefined // the first commit that was not asked for yet
    const told = new Set<string>() // hosts, since then
    const listen = () => {
      events = new EventSource('/api/v1/events')
      events.addEventListener('committed', (e) => {
        told.add((JSON.parse((e as MessageEvent<string>).data) as { host: string }).host)
        clearTimeout(soon) // hosts report within moments of each other: ask once, but do not wait for ever
        since ??= Date.now()
        const wait = Math.max(Math.min(calm, since + longestWait - Date.now()), 0)
        soon = setTimeout(() => {
          since = undefined
          const hosts = new Set(told)
          told.clear()
          void queries.invalidateQueries({
            queryKey: [figures],
            predicate: (q) => q.meta?.host === undefined || hosts.has(q.meta.host as string),
          })
        }, wait)
      })
    }
    // A page that is left is kept for the way back, with its connections. A browser opens six to a host: after as many
    // pages nothing would load any more.
    const leave = () => events.close()
    const back = (e: PageTransitionEvent) => {
      if (e.persisted) listen()
    }
    listen()
    addEventListener('pagehide', leave)
    addEventListener('pageshow', back)
    return () => {
      clearTimeout(soon)
      removeEventListener('pagehide', leave)
      removeEventListener('pageshow', back)
      events.close()
    }
  }, [live, queries])
}
