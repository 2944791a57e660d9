import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { cleanup, fireEvent, render, screen } from '@testing-library/react'
import { useState } from 'react'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { TryRule, type Draft } from './TryRule'
import { rootOfPage } from '../../test/page'

const calls: { path: string; body: unknown }[] = []

const move = {
  workload: 'journal',
  kind: 'service',
  owner: 'root',
  host: 'cellar-1',
  from: 'unassigned',
  to: 'Agronomy Desk',
  uses: [
    { resource: 'cpu', amount: 804.6, mean: 0.22, source: 'counted' },
    { resource: 'memory', amount: 2 ** 28, mean: 2 ** 28, source: 'counted' },
  ],
}

beforeEach(() => {
  calls.length = 0
  vi.stubGlobal('fetch', async (request: Request) => {
    const body = (await request.json()) as { expression: string }
    calls.push({ path: new URL(request.url).pathname, body })
    const json = (status: number, value: unknown) =>
      new Response(JSON.stringify(value), { status, headers: { 'Content-Type': 'application/json' } })
    if (body.expression.includes('knd'))
      return json(422, { status: 422, detail: "the rule does not compile:\n  undeclared reference to 'knd'" })
    return request.url.includes('/try')
      ? json(200, { moves: [move], workloads_matched: 4, workloads_seen: 58 })
      : json(201, { position: 8, tenant: 'Agronomy Desk', expression: body.expression, workloads_moved: 1 })
  })
})

afterEach(() => {
  cleanup()
  vi.unstubAllGlobals()
})

function Page() {
  const [draft, setDraft] = useState<Draft>({ tenant: '', expression: "unit == 'journal.service'", position: '' })
  return (
    <TryRule
      draft={draft}
      onChange={(part) => setDraft((d) => ({ ...d, ...part }))}
      tenants={[{ name: 'Agronomy Desk' }]}
    />
  )
}

async function page() {
  const root = rootOfPage()
  const home = createRoute({ getParentRoute: () => root, path: '/', component: Page })
  const router = createRouter({ routeTree: root.addChildren([home]), history: createMemoryHistory() })
  render(
    <QueryClientProvider client={new QueryClient()}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  )
  fireEvent.change(await screen.findByLabelText('Tenant'), { target: { value: 'Agronomy Desk' } })
}

describe('trying a rule', () => {
  it('shows what would move before there is a way to add it', async () => {
    await page()
    expect(screen.queryByRole('button', { name: 'Add it' })).toBeNull()
    fireEvent.click(screen.getByRole('button', { name: 'Show what it would move' }))
    const add = await screen.findByRole('button', { name: 'Add it' })
    expect(screen.getByRole('status').textContent).toBe(
      'It matches 4 of 58 workloads of the span and would move 1, with 804.6 CPU s. Nothing is changed yet.',
    )
    expect(calls.map((c) => c.path)).toEqual(['/api/v1/rules/try'])
    fireEvent.click(add)
    expect((await screen.findByText(/Rule 8 added/)).textContent).toBe(
      'Rule 8 added; 1 workloads are Agronomy Desk’s from now on.',
    )
    expect(calls[1]).toEqual({
      path: '/api/v1/rules',
      body: { tenant: 'Agronomy Desk', expression: "unit == 'journal.service'" },
    })
  })
  it('takes the way to add it away once the rule is changed: what was shown is no longer what it would do', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: 'Show what it would move' }))
    await screen.findByRole('button', { name: 'Add it' })
    fireEvent.change(screen.getByLabelText('When'), { target: { value: "knd == 'job'" } })
    expect(screen.queryByRole('button', { name: 'Add it' })).toBeNull()
    fireEvent.click(screen.getByRole('button', { name: 'Show what it would move' }))
    expect((await screen.findByRole('alert')).textContent).toContain("undeclared reference to 'knd'")
    expect(screen.queryByRole('button', { name: 'Add it' })).toBeNull()
  })
})
