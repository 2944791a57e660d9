import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { AllowanceStand, QuotaStand } from '../../api/client'
import { QuotaSheet } from './QuotaSheet'
import { rootOfPage } from '../../test/page'

const acts: { method: string; path: string; body?: unknown }[] = []

const standing = {
  tenant: 'Frost Watch',
  resource: 'memory',
  scope_kind: 'host',
  scope: 'terrace-1',
  ceiling: 8 * 2 ** 30,
  soft: null,
  unit: 'bytes',
  basis: 'greater',
  window: '',
  zone: '',
  applies_at: '2026-09-01T10:00:00Z',
  made_at: '2026-09-01T10:00:00Z',
  made_by: 'winemaker',
  reason: 'frost',
}

const stand = {
  tenant: 'Frost Watch',
  resource: 'memory',
  unit: 'bytes',
  scope_kind: 'host',
  scope: 'terrace-1',
  basis: 'greater',
  ceiling: 8 * 2 ** 30,
  soft: null,
  used_mean: 6 * 2 ** 30,
  held_mean: 9 * 2 ** 30,
  held_without_limit: 2,
  against_mean: 9.5 * 2 ** 30,
  headroom: -1.5 * 2 ** 30,
  now: 5 * 2 ** 30,
  peak_minute: 8.5 * 2 ** 30,
  p95: 8 * 2 ** 30,
  p95_of: 'minute',
  over: true,
  soft_over: false,
  exceeded: {
    minutes: 75,
    times: 3,
    unsure_minutes: 0,
    first: '2026-10-11T10:00:00Z',
    last: '2026-10-11T12:00:00Z',
    longest: [],
  },
  hurt: [
    {
      id: 1,
      name: 'must',
      kind: 'container',
      owner: '',
      tenant: 'Cellar Intake',
      host: 'terrace-1',
      waited_seconds: 320.4,
      part: 0.2,
    },
    {
      id: 2,
      name: 'lees',
      kind: 'container',
      owner: '',
      tenant: 'Cellar Intake',
      host: 'terrace-1',
      waited_seconds: 20,
      part: 0.2,
    },
  ],
  hurt_told_by: 'waiting',
  trend: [{ at: '2026-10-11T10:00:00Z', mean: 6 * 2 ** 30 }],
} as unknown as QuotaStand

const allowance = {
  tenant: 'Frost Watch',
  resource: 'cpu',
  unit: 'core_hours',
  scope_kind: 'fleet',
  scope: '',
  window: 'week',
  zone: 'Europe/Vienna',
  from: '2026-10-04T22:00:00Z',
  to: '2026-10-11T22:00:00Z',
  at: '2026-10-10T10:00:00Z',
  amount: 4060,
  soft: null,
  spent: 3476.4,
  left: 583.6,
  burn_per_day: 692,
  expected: 4543,
  expected_low: 4527,
  expected_high: 4551,
  runs_out: '2026-10-11T05:14:00Z',
  state: 'running_out',
} as unknown as AllowanceStand

beforeEach(() => {
  acts.length = 0
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url)
    const json = (value: unknown, status = 200) =>
      new Response(status === 204 ? null : JSON.stringify(value), {
        status,
        headers: { 'Content-Type': 'application/json' },
      })
    if (request.method === 'GET') return json([standing])
    const body = request.method === 'PUT' ? ((await request.json()) as { ceiling?: number }) : undefined
    acts.push({ method: request.method, path: url.pathname + url.search, body })
    if (body && body.ceiling === undefined)
      return json({ status: 422, detail: 'neither a ceiling nor a soft mark' }, 422)
    return request.method === 'PUT' ? json({ ...standing, ...body, resource: 'memory' }) : json(null, 204)
  })
})

afterEach(() => {
  cleanup()
  vi.unstubAllGlobals()
})

async function page() {
  const root = rootOfPage()
  const home = createRoute({
    getParentRoute: () => root,
    path: '/',
    component: () => <QuotaSheet tenant="Frost Watch" stands={[stand]} allowances={[allowance]} />,
  })
  const router = createRouter({ routeTree: root.addChildren([home]), history: createMemoryHistory() })
  render(
    <QueryClientProvider client={new QueryClient()}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  )
  await screen.findByText('Quotas and their history', { exact: false })
}

const cells = (row: HTMLElement) => [...row.querySelectorAll('th, td')].map((c) => c.textContent)

describe('the quotas of a tenant', () => {
  it('tell what is left, for how long it was exceeded, and who waited', async () => {
    await page()
    const row = screen.getByRole('rowheader', { name: /^Memory/ }).closest('tr')!
    expect(cells(row).slice(0, 9)).toEqual([
      'Memory GiB',
      'host terrace-1',
      '8.0 greater',
      '6.0',
      '9.0',
      '-1.5',
      '5.0',
      '8.0',
      '8.5',
    ])
    const notes = row.nextElementSibling!.textContent
    expect(notes).toMatch(
      /^Single minutes were above for 1 h 15 min, 3 times, from .* until .*; in the longest of these must of Cellar Intake waited 320 s on terrace-1, and 1 more waited too\.2 of its workloads/,
    )
    const spent = screen.getByRole('rowheader', { name: 'CPU' }).closest('tr')!
    expect(cells(spent).slice(3, 8)).toEqual([
      '4,060 core-hours',
      '3,476 core-hours',
      '584 core-hours',
      '692 core-hours',
      '4,543 core-hours4,527 to 4,551',
    ])
  })
  it('are set in the unit beside the field, and undone to what was there before', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: 'set a quota' }))
    fireEvent.change(screen.getByLabelText('Of'), { target: { value: 'memory' } })
    fireEvent.change(screen.getByLabelText('Ceiling (GiB)'), { target: { value: '12' } })
    fireEvent.change(screen.getByLabelText('On'), { target: { value: 'host' } })
    fireEvent.change(screen.getByLabelText('Its name'), { target: { value: 'terrace-1' } })
    fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'harvest' } })
    fireEvent.click(screen.getByRole('button', { name: 'Set' }))
    fireEvent.click(await screen.findByRole('button', { name: 'undo' }))
    await waitFor(() => expect(acts).toHaveLength(2))
    expect(acts.map((a) => a.path)).toEqual([
      '/api/v1/quotas/Frost%20Watch/memory',
      '/api/v1/quotas/Frost%20Watch/memory',
    ])
    expect(acts[0]!.body).toMatchObject({
      ceiling: 12 * 2 ** 30,
      scope_kind: 'host',
      scope: 'terrace-1',
      basis: 'used',
      window: '',
      reason: 'harvest',
    })
    expect(acts[1]!.body).toMatchObject({ ceiling: 8 * 2 ** 30, basis: 'greater', reason: 'undone', beyond: true })
  })
  it('say what is wrong', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: 'set a quota' }))
    fireEvent.change(screen.getByLabelText('For'), { target: { value: 'month' } })
    expect(screen.getByLabelText('Amount (core-hours)')).toBeTruthy()
    fireEvent.click(screen.getByRole('button', { name: 'Set' }))
    expect((await screen.findByRole('alert')).textContent).toBe('neither a ceiling nor a soft mark')
  })
  it('end with a reason, and only that of their scope', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: 'End the quota of Memory on host terrace-1' }))
    fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'sold' } })
    fireEvent.click(screen.getByRole('button', { name: 'End it' }))
    await screen.findByRole('button', { name: 'undo' })
    expect(acts[0]).toMatchObject({
      method: 'DELETE',
      path: '/api/v1/quotas/Frost%20Watch/memory?reason=sold&scope_kind=host&scope=terrace-1&window=',
    })
  })
})
