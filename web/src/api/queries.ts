import { useInfiniteQuery, useQuery, useQueryClient, keepPreviousData } from '@tanstack/react-query'
import { useEffect } from 'react'
import { queryOf, type Span } from '../time/span'
import { answer, api, type PinnedCPU } from './client'

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
  })
}

const hostsAtOnce = 25

/** How tenants stand on each host, some hosts at a time. */
export function useBalances(span: Span) {
  return useInfiniteQuery({
    queryKey: [figures, 'balances', queryOf(span)],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) => {
      const query = { ...queryOf(span), first: hostsAtOnce, after: pageParam }
      const got = await api.GET('/api/v1/balances', { params: { query } })
      return { balances: await answer(Promise.resolve(got)), next: got.response.headers.get('X-Next-Page') }
    },
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  })
}

export function useHosts() {
  return useQuery({ queryKey: [figures, 'hosts'], queryFn: () => answer(api.GET('/api/v1/hosts')) })
}

export type LedgerQuestion = { of: string; by: Dimension; host?: string; tenant?: string }

// The description lists the measures of its day; the register has those of now, so a measure is any text here.
export function useLedger(span: Span, q: LedgerQuestion) {
  return useQuery({
    queryKey: [figures, 'ledger', queryOf(span), q],
    queryFn: () =>
      answer(api.GET('/api/v1/ledger', { params: { query: { ...queryOf(span), ...q, of: q.of as 'cpu' } } })),
    placeholderData: keepPreviousData,
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
  return useQuery<PinnedCPU[]>({
    queryKey: [figures, 'pins', queryOf(span), host],
    queryFn: () => answer(api.GET('/api/v1/pins', { params: { query: { ...queryOf(span), host } } })),
    placeholderData: keepPreviousData,
  })
}

export function useDisks(span: Span, host?: string) {
  return useQuery({
    queryKey: [figures, 'disks', queryOf(span), host],
    queryFn: () => answer(api.GET('/api/v1/disks', { params: { query: { ...queryOf(span), host } } })),
    placeholderData: keepPreviousData,
  })
}

export function useLinks(span: Span, host?: string) {
  return useQuery({
    queryKey: [figures, 'interfaces', queryOf(span), host],
    queryFn: () => answer(api.GET('/api/v1/interfaces', { params: { query: { ...queryOf(span), host } } })),
    placeholderData: keepPreviousData,
  })
}

export function useMemory(span: Span, host: string) {
  return useQuery({
    queryKey: [figures, 'memory', queryOf(span), host],
    queryFn: () =>
      answer(api.GET('/api/v1/hosts/{name}/memory', { params: { path: { name: host }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

export function useCPUs(span: Span, host: string) {
  return useQuery({
    queryKey: [figures, 'cpus', queryOf(span), host],
    queryFn: () =>
      answer(api.GET('/api/v1/hosts/{name}/cpus', { params: { path: { name: host }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

export function useWorkload(span: Span, id: number) {
  return useQuery({
    queryKey: [figures, 'workload', queryOf(span), id],
    queryFn: () => answer(api.GET('/api/v1/workloads/{id}', { params: { path: { id }, query: queryOf(span) } })),
    placeholderData: keepPreviousData,
  })
}

export function useUser(span: Span, name: string) {
  return useQuery({
    queryKey: [figures, 'user', queryOf(span), name],
    queryFn: () =>
      answer(
        api.GET('/api/v1/about/{what}/{name}', { params: { path: { what: 'user', name }, query: queryOf(span) } }),
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

/** While live, asks for figures again soon after new ones are in the books. */
export function useLiveRefresh(live: boolean) {
  const queries = useQueryClient()
  useEffect(() => {
    if (!live) return
    let events: EventSource
    let soon: ReturnType<typeof setTimeout> | undefined
    let since: number | undefined // the first commit that was not asked for yet
    const listen = () => {
      events = new EventSource('/api/v1/events')
      events.addEventListener('committed', () => {
        clearTimeout(soon) // hosts report within moments of each other: ask once, but do not wait for ever
        since ??= Date.now()
        const wait = Math.max(Math.min(calm, since + longestWait - Date.now()), 0)
        soon = setTimeout(() => {
          since = undefined
          void queries.invalidateQueries({ queryKey: [figures] })
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
