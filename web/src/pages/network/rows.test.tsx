import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, fireEvent, render, screen, waitFor, within } from '@testing-library/react'
import { Tooltip } from 'radix-ui'
import type { ReactNode } from 'react'
import { afterEach, describe, expect, it, vi } from 'vitest'
import type { Links } from '../../api/client'
import { LinkRows } from './LinkRows'
import { UserRows } from './UserRows'
import { rootOfPage } from '../../test/page'

afterEach(cleanup)

const link = (name: string, received: number, more: Partial<Links['interfaces'][0]> = {}): Links['interfaces'][0] => ({
  host: 'cellar-1',
  name,
  kind: 'veth',
  leads_off: false,
  line_rate_bytes_per_second: null,
  received_bytes_per_second: received,
  sent_bytes_per_second: 0,
  received_packets_per_second: 0,
  sent_packets_per_second: 0,
  dropped_packets: 0,
  errors: 0,
  received_share: null,
  sent_share: null,
  ...more,
})

async function show(children: ReactNode) {
  const root = rootOfPage(<Tooltip.Provider>{children}</Tooltip.Provider>)
  const workload = createRoute({ getParentRoute: () => root, path: '/workloads/$id' })
  const router = createRouter({
    routeTree: root.addChildren([workload]),
    history: createMemoryHistory({ initialEntries: ['/'] }),
  })
  render(
    <QueryClientProvider client={new QueryClient()}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  )
  await screen.findAllByRole('table')
}

const rowOf = (name: string) => screen.getByRole('rowheader', { name: new RegExp(`^${name}`) }).closest('tr')!

describe('the rows of interfaces', () => {
  it('shows the busiest within a host first, and asks for the rest when it is wanted', async () => {
    const within = [1, 2, 3, 4, 5, 6].map((n) => link(`veth${n}`, n * 1000))
    const uplink = link('eth0', 9, { leads_off: true, kind: 'physical' })
    const asked = vi.fn((request: Request) => {
      const { searchParams } = new URL(request.url)
      expect([searchParams.get('host'), searchParams.get('within')]).toEqual(['cellar-1', null])
      return Promise.resolve(Response.json({ interfaces: [uplink, ...within] }))
    })
    vi.stubGlobal('fetch', asked)
    await show(<LinkRows links={[uplink, ...within.slice(2)]} inAll={{ 'cellar-1': 7 }} />)
    const names = () => screen.getAllByRole('rowheader').map((h) => h.textContent!.slice(0, 5))
    expect(names()).toEqual(['eth0c', 'veth6', 'veth5', 'veth4', 'veth3'])
    expect(asked).not.toHaveBeenCalled()
    fireEvent.click(screen.getByRole('button', { name: 'Show 2 more of cellar-1' }))
    await waitFor(() => expect(names().slice(-2)).toEqual(['veth2', 'veth1']))
    fireEvent.click(screen.getByRole('button', { name: 'Show the busiest only' }))
    expect(names()).toHaveLength(5)
    vi.unstubAllGlobals()
  })

  it('tells the share of the line only where the line is known, and who is at the other end', async () => {
    await show(
      <LinkRows
        links={[
          link('eth0', 1.1e9, { leads_off: true, line_rate_bytes_per_second: 1.25e9, dropped_packets: 7 }),
          link('veth1', 500, {
            other_end: {
              id: 4,
              name: 'must-intake-1',
              kind: 'container',
              owner: 'svc-cellar',
              tenant: 'Cellar Intake',
            },
          }),
          link('veth2', 400, { peer: 'veth3' }),
        ]}
        inAll={{ 'cellar-1': 3 }}
      />,
    )
    const off = rowOf('eth0')
    expect(off.textContent).toContain('10 Gbit/s')
    expect(off.textContent).toContain('88 %')
    expect(within(off).getByRole('cell', { name: '7' }).className).toContain('text-wine')
    expect(rowOf('veth1').textContent).not.toContain('%')
    expect(within(rowOf('veth1')).getByRole('link').getAttribute('href')).toBe('/workloads/4')
    expect(rowOf('veth2').textContent).toContain('veth3')
  })
})

describe('who moved what', () => {
  it('closes with sums that hold workloads to interfaces, and says who cannot be told apart', async () => {
    const rates = (received: number, sent: number) => ({
      received_bytes_per_second: received,
      sent_bytes_per_second: sent,
    })
    const user = { id: 4, name: 'route-api', kind: 'container', owner: 'svc-route', tenant: 'Harvest Routing' }
    const links: Links = {
      from: '2026-10-11T12:00:00Z',
      to: '2026-10-11T13:00:00Z',
      host: 'press-1',
      interfaces: [],
      workloads: [
        {
          ...user,
          ...rates(3e6, 2e6),
          host: 'press-1',
          local_bytes_per_second: 0,
          packets_per_second: 0,
          source: 'counted',
        },
        {
          ...user,
          id: 5,
          name: 'must-intake-1',
          ...rates(0, 0),
          host: 'press-1',
          local_bytes_per_second: null,
          packets_per_second: null,
          source: 'summed',
        },
      ],
      wire: rates(2e6, 5e6),
      ip: rates(3e6, 2e6),
      residual: rates(-1e6, 3e6),
      hosts_not_recorded: [],
      in_all: { hosts: 1, interfaces: {}, workloads: 2, not_counted: 1 },
      not_counted: [{ ...user, id: 9, host: 'press-1' }],
    }
    await show(<UserRows links={links} colours={new Map()} />)
    expect(rowOf('Residual').textContent).toBe('Residual−1 MB/s3 MB/s')
    expect(rowOf('route-api').textContent).toContain('0 B/scounted')
    expect(rowOf('must-intake-1').textContent).toContain('–summed')
    expect(rowOf('All workloads').textContent).toContain('3 MB/s2 MB/s')
    expect(screen.getByText(/^Of 1 more the network is not available/)).toBeTruthy()
  })
})
