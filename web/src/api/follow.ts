import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import type { Span } from '../time/span'
import type { components } from './schema.gen'

type LiveAnswer = components['schemas']['LiveAnswer']
export type LivePace = components['schemas']['LivePace']

export const figures = 'figures' // keys that begin so are asked again when new figures are in the books

/** What a question is about, so that it is told anew when that changes: as it is followed live, and of which host. */
export function followed(span: Span, path: string, query: Record<string, unknown>, host?: string) {
  const given = Object.entries(query).filter(([name, v]) => v !== undefined && name !== 'live')
  const words = new URLSearchParams(given.map(([name, v]) => [name, String(v)]))
  return { host, ask: span.live && span.pace ? `${path}?${words}` : undefined }
}

// Milliseconds without a commit after which figures are asked for again, and the longest that this is put off: many
// hosts commit all the time.
const calm = 400
const longestWait = 5000

/** Asks for figures of the book again soon after new ones are in it. What is about one host waits for that host. */
class Refresher {
  private soon: ReturnType<typeof setTimeout> | undefined
  private since: number | undefined // the first commit that was not asked for yet
  private readonly told = new Set<string>() // hosts, since then

  constructor(private readonly queries: QueryClient) {}

  committed(host: string) {
    this.told.add(host)
    clearTimeout(this.soon) // hosts report within moments of each other: ask once, but do not wait for ever
    this.since ??= Date.now()
    const wait = Math.max(Math.min(calm, this.since + longestWait - Date.now()), 0)
    this.soon = setTimeout(() => this.ask(), wait)
  }

  private ask() {
    this.since = undefined
    const hosts = new Set(this.told)
    this.told.clear()
    void this.queries.invalidateQueries({
      queryKey: [figures],
      predicate: (q) => !q.meta?.ask && (q.meta?.host === undefined || hosts.has(q.meta.host as string)),
    })
  }

  stop() {
    clearTimeout(this.soon)
  }
}

/** How many questions the service answers in one stream. */
const mostAsks = 64

/** The questions of what is on the page that are followed live, by their words. */
function asksOf(queries: QueryClient) {
  const all = queries.getQueryCache().findAll({ type: 'active', predicate: (q) => typeof q.meta?.ask === 'string' })
  return all
    .map((q) => ({ ask: q.meta!.ask as string, host: q.meta!.host as string | undefined, key: q.queryKey }))
    .sort((a, b) => a.ask.localeCompare(b.ask))
    .slice(0, mostAsks)
}

/** What the page is about, where all that is followed is about one host. */
function hostOf(asks: { host?: string }[]): string | undefined {
  const host = asks[0]?.host
  return asks.every((a) => a.host === host) ? host : undefined
}

/**
 * While the span is of now, keeps what is on the page up to date, over one connection: questions that live frames answer
 * are answered anew at the pace that was chosen, and those of the book are asked again when it has more.
 */
export function useFollow(span: Span) {
  const queries = useQueryClient()
  const isLive = span.live
  const pace = span.live ? span.pace : undefined
  useEffect(() => {
    if (!isLive) return
    const refresher = new Refresher(queries)
    let events: EventSource | undefined
    let open = '' // what is followed now
    let soon: ReturnType<typeof setTimeout> | undefined
    const listen = () => {
      events?.close()
      const asks = pace ? asksOf(queries) : []
      open = asks.map((a) => a.ask).join('\n')
      const query = new URLSearchParams(asks.map((a) => ['ask', a.ask]))
      if (pace) query.set('pace', String(pace))
      const host = hostOf(asks)
      if (host) query.set('host', host)
      events = new EventSource(pace ? `/api/v1/live?${query}` : '/api/v1/events')
      const on = <T>(name: string, take: (data: T) => void) =>
        events!.addEventListener(name, (e) => take(JSON.parse((e as MessageEvent<string>).data) as T))
      on<{ host: string }>('committed', (c) => refresher.committed(c.host))
      on<LiveAnswer>('answer', (a) => {
        const to = asks[a.ask]
        if (to && a.status === 200) queries.setQueryData(to.key, a.body)
      })
      on<LivePace>('pace', (p) => queries.setQueryData(['pace'], p))
    }
    const stop = pace
      ? queries.getQueryCache().subscribe((e) => {
          if (e.type !== 'observerAdded' && e.type !== 'observerRemoved') return
          clearTimeout(soon) // a page changes in many small steps
          soon = setTimeout(() => {
            const now = asksOf(queries)
            if (events && now.map((a) => a.ask).join('\n') !== open) listen()
          }, 150)
        })
      : undefined
    // A page that is left is kept for the way back, with its connections. A browser opens six to a host: after as many
    // pages nothing would load any more.
    const leave = () => events?.close()
    const back = (e: PageTransitionEvent) => {
      if (e.persisted) listen()
    }
    listen()
    addEventListener('pagehide', leave)
    addEventListener('pageshow', back)
    return () => {
      stop?.()
      clearTimeout(soon)
      refresher.stop()
      removeEventListener('pagehide', leave)
      removeEventListener('pageshow', back)
      events?.close()
      events = undefined
    }
  }, [isLive, pace, queries])
}

/** How hosts are read now for those who look, as far as it was told. */
export function usePace() {
  return useQuery<LivePace | null>({ queryKey: ['pace'], queryFn: () => null, enabled: false }).data ?? undefined
}
