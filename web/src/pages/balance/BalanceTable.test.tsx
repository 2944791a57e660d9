import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { cleanup, render, screen, within } from '@testing-library/react'
import { Tooltip } from 'radix-ui'
import { afterEach, describe, expect, it } from 'vitest'
import type { Balance, ResourceUse } from '../../api/client'
import { BalanceTable } from './BalanceTable'
import { rootOfPage } from '../../test/page'

afterEach(cleanup)

const usage = (resource: string, used: number | null, quota: number | null, missing = 0): ResourceUse => ({
  resource,
  used_mean: used,
  amount: used,
  peak_minute_mean: used,
  quota,
  soft: null,
  soft_over: false,
  missing,
  over: used !== null && quota !== null && used > quota,
  peak_over: used !== null && quota !== null && used > quota,
  reason: missing > 0 ? 'they share the host’s network' : undefined,
})

const balance: Balance = {
  from: '2026-10-11T12:00:00Z',
  to: '2026-10-11T13:00:00Z',
  host: 'all hosts',
  hosts: 1,
  workloads: 6,
  stands: [],
  allowances: [],
  promised: [],
  short: [],
  tenants: [
    { tenant: 'Cellar Intake', colour: 3, workloads: 2, uses: [usage('cpu', 9, 8), usage('network', null, 1e9, 2)] },
    { tenant: 'Frost Watch', colour: 1, workloads: 3, uses: [usage('cpu', 20, 40), usage('network', 1.25e8, 1e9, 1)] },
    { tenant: 'unassigned', colour: 0, workloads: 1, uses: [usage('cpu', 1, null), usage('network', 0, null)] },
  ],
  resources: [
    {
      resource: 'cpu',
      mean_unit: 'cores',
      capacity_mean: 64,
      used_mean: 31.5,
      kernel_mean: 1,
      steal_mean: null,
      idle_mean: 32.5,
      residual_mean: 0.5,
    },
    {
      resource: 'network',
      mean_unit: 'bytes_per_second',
      capacity_mean: null,
      used_mean: 2.5e8,
      kernel_mean: null,
      steal_mean: null,
      idle_mean: null,
      residual_mean: 1.25e8,
      notes: {
        capacity: 'the driver of eth0 does not tell',
        kernel: 'not counted apart',
        idle: 'the driver of eth0 does not tell',
      },
    },
  ],
}

async function show() {
  const root = rootOfPage()
  const page = createRoute({
    getParentRoute: () => root,
    path: '/',
    component: () => <BalanceTable balance={balance} />,
  })
  const router = createRouter({
    routeTree: root.addChildren([page]),
    history: createMemoryHistory({ initialEntries: ['/?span=24h'] }),
  })
  render(
    <Tooltip.Provider>
      <RouterProvider router={router as never} />
    </Tooltip.Provider>,
  )
  await screen.findByRole('table')
  return (name: RegExp) => within(screen.getByRole('row', { name })).getAllByRole('cell')
}

describe('the balance table', () => {
  it('adds each column up to its capacity', async () => {
    const cells = await show()
    const figures = [/^Cellar Intake/, /^Frost Watch/, /^Unassigned/, /^Kernel/, /^Idle/, /^Residual/].map((r) =>
      parseFloat(cells(r)[0]!.textContent!),
    )
    expect(figures.reduce((a, b) => a + b)).toBeCloseTo(parseFloat(cells(/^Capacity/)[0]!.textContent!))
  })
  it('says what is over its quota, in words', async () => {
    const cells = await show()
    expect(cells(/^Cellar Intake/)[0]!.textContent).toBe('9.0 of 81.0 over')
    expect(cells(/^Frost Watch/)[0]!.textContent).toBe('20.0 of 40')
  })
  it('shows what is not known as not available, and what is known in part as such', async () => {
    const cells = await show()
    expect(cells(/^Cellar Intake/)[1]!.textContent).toBe('not available')
    expect(cells(/^Frost Watch/)[1]!.textContent).toBe('1.00 of 81 not counted')
    for (const line of [/^Kernel/, /^Idle/, /^Capacity/]) expect(cells(line)[1]!.textContent).toBe('not available')
    expect(cells(/^Residual/)[1]!.textContent).toBe('1.00')
  })
  it('takes the span along to a tenant’s page', async () => {
    await show()
    expect(screen.getByRole('link', { name: 'Frost Watch' }).getAttribute('href')).toBe(
      '/tenants/Frost%20Watch?span=24h',
    )
  })
})
