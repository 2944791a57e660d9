import {
  useInfiniteQuery,
  useMutation,
  useMutationState,
  useQueries,
  useQuery,
  useQueryClient,
  keepPreviousData,
  type UseQueryOptions,
} from '@tanstack/react-query'
import { useContext, useMemo } from 'react'
import { changeOf, choices, usual, type Change } from '../choices/choices'
import { framesOf, queryOf, type Span } from '../time/span'
import { answer, api, type Balance, type Choices, type Folio, type PinAudit, type Tenant } from './client'
import { figures, followed } from './follow'
import { Seen } from './seen'

export type Dimension = 'tenant' | 'user' | 'workload' | 'kind' | 'host' | 'program'

/**
 * A query of what may be out of view, as plates of a folio are: it is asked for once, and then again only while it is
 * in view.
 */
function useSeenQuery<T>(options: UseQueryOptions<T>) {
  const isSeen = useContext(Seen)
  const queries = useQueryClient()
  const isWanted = isSeen || queries.getQueryData(options.queryKey) === undefined
  return useQuery({ ...options, enabled: options.enabled !== false && isWanted })
}

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

/** How whoever is signed in wants figures shown. */
export function useChoices(enabled: boolean) {
  return useQuery({
    queryKey: ['choices'],
    queryFn: () => answer(api.GET('/api/v1/me/choices')),
    staleTime: Infinity,
    enabled,
  })
}

/**
 * Keeps some choices beside those that are kept. They are sent one after the other, each with all that was kept by then:
 * none takes back another that was made shortly before. The site's time zone, which may come with them, is nobody's
 * choice.
 */
export function useSetChoices() {
  const queries = useQueryClient()
  return useMutation({
    mutationKey: ['choices'],
    scope: { id: 'choices' },
    mutationFn: (change: Change) => {
      const kept = { ...usual, ...queries.getQueryData<Choices & { site_zone?: string }>(['choices']) }
      const body = { ...kept, ...changeOf(kept, change) }
      delete body.site_zone
      return answer(api.PUT('/api/v1/me/choices', { body }))
    },
    onSuccess: (kept) => queries.setQueryData(['choices'], kept),
  })
}

/** What is chosen, with what is not kept yet. */
export function useChosenMeanwhile(): Choices {
  const changes = useMutationState({
    filters: { mutationKey: ['choices'], status: 'pending' },
    select: (m) => m.state.variables as Change,
  })
  return changes.reduce<Choices>((now, change) => ({ ...now, ...changeOf(now, change) }), choices())
}

/** What plates may show, and in which forms: it changes only with the service. */
export function useMatters(enabled = true) {
  return useQuery({
    queryKey: ['matters'],
    queryFn: () => answer(api.GET('/api/v1/plates')),
    staleTime: Infinity,
    enabled,
  })
}

/** The folios that whoever is signed in may see. */
export function useFolios() {
  return useQuery({ queryKey: ['folios'], queryFn: () => answer(api.GET('/api/v1/folios')) })
}

export function useFolio(name: string) {
  return useQuery({
    queryKey: ['folio', name],
    queryFn: () => answer(api.GET('/api/v1/folios/{name}', { params: { path: { name } } })),
  })
}

/** Keeps a new folio. */
export function useAddFolio() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (body: { folio: Folio; shared: boolean }) => answer(api.POST('/api/v1/folios', { body })),
    onSuccess: (kept) => {
      queries.setQueryData(['folio', kept.name], kept)
      void queries.invalidateQueries({ queryKey: ['folios'] })
    },
  })
}

/** Keeps a folio in place of the version that was seen. */
export function useChangeFolio(name: string) {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: ({ version, ...body }: { folio: Folio; shared: boolean; version: number }) =>
      answer(
        api.PUT('/api/v1/folios/{name}', {
          params: { path: { name }, header: { 'If-Match': `"folio-${version}"` } },
          body,
        }),
      ),
    onSuccess: (kept) => {
      queries.setQueryData(['folio', name], kept)
      void queries.invalidateQueries({ queryKey: ['folios'] })
    },
  })
}

export function useRemoveFolio() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (name: string) => answer(api.DELETE('/api/v1/folios/{name}', { params: { path: { name } } })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['folios'] }),
  })
}

/** What every word means: it changes only with the service. */
export function useWords(enabled: boolean) {
  return useQuery({
    queryKey: ['words'],
    queryFn: () => answer(api.GET('/api/v1/words')),
    staleTime: Infinity,
    enabled,
  })
}

/**
 * How tenants stand. Live frames tell what they use now; how they stand against quotas over time is of the book then, of
 * the last hour.
 */
export function useBalance(span: Span, host?: string) {
  const query = { ...framesOf(span), host }
  const balance = useSeenQuery({
    queryKey: [figures, 'balance', query],
    queryFn: () => answer(api.GET('/api/v1/balance', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/balance', query, host),
  })
  const isNow = query.live !== undefined
  const inBook = { ...queryOf(span), host }
  const book = useSeenQuery({
    queryKey: [figures, 'balance', inBook],
    queryFn: () => answer(api.GET('/api/v1/balance', { params: { query: inBook } })),
    placeholderData: keepPreviousData,
    enabled: isNow,
    meta: { host },
  }).data
  return useMemo(() => {
    if (!isNow || !balance.data || !book) return balance
    const { stands, allowances, promised, short } = book
    return { ...balance, data: { ...balance.data, stands, allowances, promised, short, note: undefined } as Balance }
  }, [balance, book, isNow])
}

const hostsAtOnce = 25

/** Hosts and how tenants stand on each, some at a time by their names. */
export function useHostPages(span: Span) {
  const hosts = useInfiniteQuery({
    queryKey: [figures, 'host pages'],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam: after }) => {
      const got = await api.GET('/api/v1/hosts', { params: { query: { first: hostsAtOnce, after } } })
      return {
        hosts: await answer(Promise.resolve(got)),
        inAll: Number(got.response.headers.get('X-In-All')),
        next: got.response.headers.get('X-Next-Page'),
      }
    },
    getNextPageParam: (page) => page.next ?? undefined,
  })
  const balances = useQueries({
    queries: (hosts.data?.pageParams ?? []).map((after) => {
      const query = { ...framesOf(span), first: hostsAtOnce, after: after as string | undefined }
      return {
        queryKey: [figures, 'balances', query],
        queryFn: () => answer(api.GET('/api/v1/balances', { params: { query } })),
        placeholderData: keepPreviousData,
        meta: followed(span, '/balances', query),
      }
    }),
  })
  return {
    hosts,
    balances: balances.flatMap((b) => b.data ?? []),
    error: hosts.error ?? balances.find((b) => b.error)?.error ?? null,
  }
}

/** Every host, by name. */
export function useAllHosts(enabled = true) {
  return useSeenQuery({
    enabled,
    queryKey: [figures, 'all hosts'],
    queryFn: () => answer(api.GET('/api/v1/hosts', { params: { query: {} } })),
    placeholderData: keepPreviousData,
  })
}

/** What a rule, or an expression that narrows a list, may ask about. */
export function useRuleAttributes(enabled: boolean) {
  return useQuery({
    enabled,
    queryKey: ['rule attributes'],
    queryFn: () => answer(api.GET('/api/v1/rules/attributes')),
    staleTime: Infinity,
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

/** One host, with its load at the end of the span. */
export function useHost(span: Span, name: string) {
  const query = framesOf(span)
  return useQuery({
    queryKey: [figures, 'host', name, query],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}', { params: { path: { name }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/hosts/${encodeURIComponent(name)}`, query, name),
  })
}

export type LedgerQuestion = { of: string; by: Dimension; host?: string; tenant?: string; first?: number }

// The description lists the measures of its day; the register has those of now, so a measure is any text here.
export function useLedger(span: Span, q: LedgerQuestion) {
  const query = { ...framesOf(span), ...q, of: q.of as 'cpu' }
  return useQuery({
    queryKey: [figures, 'ledger', query],
    queryFn: () => answer(api.GET('/api/v1/ledger', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/ledger', query, q.host),
  })
}

export type SeriesQuestion = {
  of: string
  by?: string
  host?: string
  pool?: string
  tenant?: string
  workload?: number
  where?: string
  first?: number
  step?: string
  /** Of a figure of hosts’ parts: only this one. */
  part?: string
}

/** How a measure went over a span. */
export function useSeries(span: Span, q: SeriesQuestion, enabled = true) {
  const query = { ...framesOf(span, '15m'), ...q, of: q.of as 'cpu' }
  return useSeenQuery({
    enabled,
    queryKey: [figures, 'series', query],
    queryFn: () => answer(api.GET('/api/v1/series', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/series', query, q.host),
  })
}

/** What happened in a span, the newest first. */
export function useEvents(
  span: Span,
  q: { host?: string; tenant?: string; workload?: number; kinds?: string; urgent?: boolean },
  enabled: boolean = true,
) {
  return useSeenQuery({
    enabled,
    queryKey: [figures, 'events', queryOf(span), q],
    queryFn: () => answer(api.GET('/api/v1/events/past', { params: { query: { ...queryOf(span), ...q } } })),
    placeholderData: keepPreviousData,
    meta: { host: q.host },
  })
}

/** What happened between two moments that somebody should look at, on all hosts. */
export function useUrgent(from: Date, to: Date) {
  const query = { from: byMinute(from), to: byMinute(to), urgent: true, first: 50 }
  return useQuery({
    queryKey: [figures, 'urgent', query],
    queryFn: () => answer(api.GET('/api/v1/events/past', { params: { query } })),
    placeholderData: keepPreviousData,
  })
}

// By the minute, so that a ruler that moves on does not ask every second.
const byMinute = (d: Date) => new Date(Math.floor(d.getTime() / 60_000) * 60_000).toISOString()

export function useTimeline(from: Date, to: Date, host?: string) {
  const query = { from: byMinute(from), to: byMinute(to), host }
  return useQuery({
    queryKey: [figures, 'timeline', query],
    queryFn: () => answer(api.GET('/api/v1/timeline', { params: { query } })),
    placeholderData: keepPreviousData,
  })
}

export function usePins(span: Span, host?: string) {
  const query = { ...framesOf(span), host }
  return useQuery<PinAudit[]>({
    queryKey: [figures, 'pins', query],
    queryFn: () => answer(api.GET('/api/v1/pins', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/pins', query, host),
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

/** All statements of a window, closed or a draft. */
export function useAccount(window: string) {
  return useQuery({
    queryKey: ['account', window],
    queryFn: () => answer(api.GET('/api/v1/statements/account', { params: { query: { window } } })),
    retry: false,
  })
}

/** A tenant's statement of a window, closed or a draft. */
export function useStatement(tenant: string, window: string) {
  return useQuery({
    queryKey: ['statement', tenant, window],
    queryFn: () =>
      answer(api.GET('/api/v1/statements/of/{tenant}', { params: { path: { tenant }, query: { window } } })),
    retry: false,
  })
}

/** Closed statements without their lines: of a tenant, or all. */
export function useStatements(tenant?: string) {
  return useQuery({
    queryKey: ['statements', tenant],
    queryFn: () => answer(api.GET('/api/v1/statements', { params: { query: { tenant } } })),
  })
}

/** What things cost. */
export function useTariff() {
  return useQuery({ queryKey: ['tariff'], queryFn: () => answer(api.GET('/api/v1/tariff')) })
}

/** The busiest drives, and the users that moved most of each. */
export function useDisks(span: Span, cut: { first: number; users: number; host?: string }) {
  const query = { ...framesOf(span), ...cut }
  return useSeenQuery({
    queryKey: [figures, 'disks', query],
    queryFn: () => answer(api.GET('/api/v1/disks', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/disks', query, cut.host),
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
export function useSensors(host?: string) {
  return useSeenQuery({
    queryKey: [figures, 'sensors', host],
    queryFn: () => answer(api.GET('/api/v1/sensors', { params: { query: { host } } })),
    placeholderData: keepPreviousData,
    meta: { host },
  })
}

/** The GPUs of a host, or of all; or everything about one of them. */
export function useGPUs(span: Span, host?: string, device?: string) {
  const query = { ...framesOf(span), host, device }
  return useSeenQuery({
    queryKey: [figures, 'gpus', query],
    queryFn: () => answer(api.GET('/api/v1/gpus', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/gpus', query, host),
  })
}

export type LinksCut = { host?: string; first?: number; within?: number; users?: number }

/** The interfaces of the hosts that moved most, and the workloads that did. */
export function useLinks(span: Span, cut: LinksCut, enabled = true) {
  const query = { ...framesOf(span), ...cut }
  return useQuery({
    queryKey: [figures, 'interfaces', query],
    queryFn: () => answer(api.GET('/api/v1/interfaces', { params: { query } })),
    placeholderData: keepPreviousData,
    enabled,
    meta: followed(span, '/interfaces', query, cut.host),
  })
}

export function useMemory(span: Span, host: string) {
  const query = { ...framesOf(span) }
  return useQuery({
    queryKey: [figures, 'memory', query, host],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}/memory', { params: { path: { name: host }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/hosts/${encodeURIComponent(host)}/memory`, query, host),
  })
}

export function useCPUs(span: Span, host: string) {
  const query = { ...framesOf(span) }
  return useQuery({
    queryKey: [figures, 'cpus', query, host],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}/cpus', { params: { path: { name: host }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/hosts/${encodeURIComponent(host)}/cpus`, query, host),
  })
}

/** Who ran on which CPU of a host, and when. */
export function usePlacement(span: Span, host: string, by: 'tenant' | 'workload') {
  const query = { ...framesOf(span, '15m'), by }
  return useSeenQuery({
    queryKey: [figures, 'placement', query, host],
    queryFn: () => answer(api.GET('/api/v1/hosts/{name}/placement', { params: { path: { name: host }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/hosts/${encodeURIComponent(host)}/placement`, query, host),
  })
}

export type WorkloadsQuestion = { where?: string; tenant?: string; host?: string }

/** How many workloads are listed at first, and how many more at a time. */
export const workloadsAtOnce = 50

/** Workloads with what they used, some at a time, in an order of the service. */
export function useWorkloads(span: Span, q: WorkloadsQuestion, sort: string, first = workloadsAtOnce) {
  const query = { ...framesOf(span), ...q, sort, first }
  return useQuery({
    queryKey: [figures, 'workloads', query],
    queryFn: () => answer(api.GET('/api/v1/workloads', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/workloads', query, q.host),
  })
}

/** Workloads by groups: how many, and what they used together. */
export function useGroups(span: Span, by: string, where?: string) {
  const query = { ...framesOf(span), by, where }
  return useQuery({
    queryKey: [figures, 'groups', query],
    queryFn: () => answer(api.GET('/api/v1/groups', { params: { query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, '/groups', query),
  })
}

export function useWorkload(span: Span, id: number) {
  const query = { ...framesOf(span) }
  return useQuery({
    queryKey: [figures, 'workload', query, id],
    queryFn: () => answer(api.GET('/api/v1/workloads/{id}', { params: { path: { id }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/workloads/${id}`, query),
  })
}

export function useUser(span: Span, name: string, first: number) {
  const query = { ...framesOf(span), first }
  return useQuery({
    queryKey: [figures, 'user', query, name],
    queryFn: () => answer(api.GET('/api/v1/about/{what}/{name}', { params: { path: { what: 'user', name }, query } })),
    placeholderData: keepPreviousData,
    meta: followed(span, `/about/user/${encodeURIComponent(name)}`, query),
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
