import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, render, screen } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { Tooltip } from 'radix-ui'
import { afterEach, describe, expect, it } from 'vitest'
import type { Ledger, Share, Warming } from '../api/client'
import { ShareTable } from './ShareTable'
import { rootOfPage } from '../test/page'

afterEach(cleanup)

const share = (s: Partial<Share>): Share => ({
  name: 'must-intake-1',
  kind: 'container',
  owner: 'svc-cellar',
  tenant: 'Cellar Intake',
  host: 'cellar-1',
  amount: 3600,
  mean: 1,
  peak: 2,
  source: 'counted',
  parts: 1,
  missing: 0,
  ...s,
})

async function rows(withHost: boolean, shares: Share[], warming: Warming[] = [], role = 'reader') {
  const ledger = {
    resource: 'cpu',
    capacity: 57600,
    shares,
    warming,
    left_out: 0,
    left_out_amount: 0,
  } as unknown as Ledger
  const root = rootOfPage()
  const page = createRoute({
    getParentRoute: () => root,
    path: '/',
    component: () => <ShareTable ledger={ledger} colours={new Map([['Cellar Intake', 3]])} withHost={withHost} />,
  })
  const router = createRouter({ routeTree: root.addChildren([page]), history: createMemoryHistory() })
  const queries = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } })
  queries.setQueryData(['me'], { name: 'winemaker', role })
  render(
    <QueryClientProvider client={queries}>
      <Tooltip.Provider>
        <RouterProvider router={router as never} />
      </Tooltip.Provider>
    </QueryClientProvider>,
  )
  await screen.findByRole('table')
  return screen.getAllByRole('row').map((r) => [...(r as HTMLTableRowElement).cells].map((c) => c.textContent))
}

describe('the table of shares', () => {
  it('is sorted by any column, what is not known last', async () => {
    await rows(false, [
      share({ name: 'b', mean: 2 }),
      share({ name: 'c', mean: 9 }),
      share({ name: 'a', mean: null, amount: null }),
    ])
    const names = () => screen.getAllByRole('rowheader').map((c) => c.textContent?.split(' ')[0])
    expect(names()).toEqual(['b', 'c', 'a'])
    await userEvent.click(screen.getByRole('button', { name: 'Mean cores' }))
    expect(names()).toEqual(['c', 'b', 'a'])
    await userEvent.click(screen.getByRole('button', { name: 'Mean cores' }))
    expect(names()).toEqual(['b', 'c', 'a'])
    await userEvent.click(screen.getByRole('button', { name: 'Workload' }))
    expect(names()).toEqual(['a', 'b', 'c'])
  })
  it('shows mean, highest tick, part of the whole and source', async () => {
    const [head, first] = await rows(false, [share({})])
    expect(head).toEqual(['Workload', 'Tenant', 'Owner', 'Mean cores', 'Highest tick', '% of the host', 'Source'])
    expect(first).toEqual(['must-intake-1 container', 'Cellar Intake', 'svc-cellar', '1.00', '2.0', '6.3 %', 'counted'])
  })
  it('says when the first usage of a workload that was just seen is due, and shows no zero', async () => {
    const warming = [
      {
        workload_id: 9,
        name: 'must-\u202e7',
        kind: 'container',
        owner: 'svc-cellar',
        tenant: 'Cellar Intake',
        host: 'cellar-1',
        due_at: '2026-11-23T03:11:00Z',
        due_in_seconds: 22.4,
      },
    ]
    const [, , second] = await rows(false, [share({ workload_id: 8 })], warming)
    expect(second).toEqual(['must-\\u202e7 container', 'Cellar Intake', 'svc-cellar', 'first reading, usage in 23 s'])
    expect(screen.getByRole('link', { name: 'must-intake-1' }).getAttribute('href')).toBe('/workloads/8')
  })
  it('has acts on each workload for who may act, and for nobody else', async () => {
    await rows(
      false,
      [share({ workload_id: 8 }), share({ name: 'kernel', kind: 'kernel', workload_id: 9 })],
      [],
      'operator',
    )
    expect(screen.getAllByRole('button', { name: /^Act on/ }).map((b) => b.getAttribute('aria-label'))).toEqual([
      'Act on must-intake-1',
    ])
    cleanup()
    await rows(false, [share({ workload_id: 8 })])
    expect(screen.queryByRole('button', { name: /^Act on/ })).toBeNull()
  })
  it('shows a dash and the word for what is unavailable, not a zero', async () => {
    const [, first] = await rows(false, [
      share({
        amount: null,
        mean: null,
        peak: undefined,
        source: 'unavailable',
        reason: 'nothing tells it apart',
        owner: '',
      }),
    ])
    expect(first).toEqual(['must-intake-1 container', 'Cellar Intake', 'not known', '–', '–', '–', 'unavailable'])
  })
  it('names hosts where shares are of several, and keeps equal names apart', async () => {
    const all = await rows(true, [share({}), share({ host: 'press-1' })])
    expect(all.slice(1).map((r) => r[1])).toEqual(['cellar-1', 'press-1'])
    expect(all[0]).toContain('% of the fleet')
  })
})
