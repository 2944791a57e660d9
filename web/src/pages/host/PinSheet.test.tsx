import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { PinSheet } from './PinSheet'
import { rootOfPage } from '../../test/page'

const acts: { method: string; path: string; body?: unknown }[] = []

const standing = {
  id: 7,
  host: 'cellar-1',
  cpus: '12-15',
  holder_kind: 'tenant',
  holder: 'Bottling Line',
  exclusive: true,
  from: '2026-09-01T10:00:00Z',
  until: null,
  reason: 'the line stops',
  made_by: 'winemaker',
  made_at: '2026-09-01T10:00:00Z',
  ended_by: '',
  end_reason: '',
}

const audit = {
  ...standing,
  declared_from: standing.from,
  declared_until: null,
  verdict: 'intruded',
  grade: 'bad',
  sentence: 'curd-fermentlog ran for 30 CPU-seconds on CPU 12.',
  capacity_cpu_seconds: 200,
  kept_cpu_seconds: 100,
  others_cpu_seconds: 30,
  kernel_cpu_seconds: 1,
  steal_cpu_seconds: 1,
  idle_cpu_seconds: 68,
  residual_cpu_seconds: 0,
  effective_cpus: '12-15',
  others_allowed: 1,
  source: 'counted',
  verdicts: [
    {
      verdict: 'intruded',
      sentence: 'curd-fermentlog ran for 30 CPU-seconds on CPU 12.',
      culprits: [],
      when: {
        from: '2026-10-11T10:00:00Z',
        to: '2026-10-11T10:09:00Z',
        stretches: 2,
        worst_from: '2026-10-11T10:08:00Z',
        holder_waited_seconds: 4.25,
      },
    },
  ],
  each: [],
}

beforeEach(() => {
  acts.length = 0
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url)
    const json = (value: unknown, status = 200) =>
      new Response(JSON.stringify(value), { status, headers: { 'Content-Type': 'application/json' } })
    if (request.method === 'GET')
      return json(
        url.pathname.endsWith('/declared')
          ? [standing]
          : url.pathname.endsWith('/pins')
            ? [audit]
            : [{ name: 'Bottling Line' }],
      )
    const body = request.method === 'PUT' ? ((await request.json()) as { cpus: string }) : undefined
    acts.push({ method: request.method, path: url.pathname + url.search, body })
    if (body?.cpus === '99') return json({ status: 422, detail: 'CPU 99: cellar-1 has CPUs 0 to 15' }, 422)
    return json({ ...standing, id: 8, cpus: body?.cpus ?? standing.cpus })
  })
})

afterEach(() => {
  cleanup()
  vi.unstubAllGlobals()
})

async function page() {
  const root = rootOfPage()
  const home = createRoute({ getParentRoute: () => root, path: '/', component: () => <PinSheet host="cellar-1" /> })
  const router = createRouter({ routeTree: root.addChildren([home]), history: createMemoryHistory() })
  render(
    <QueryClientProvider client={new QueryClient()}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  )
  await screen.findByRole('button', { name: /intruded/ })
}

async function declare(cpus: string) {
  fireEvent.click(screen.getByRole('button', { name: 'declare' }))
  fireEvent.change(screen.getByLabelText('CPUs'), { target: { value: cpus } })
  await screen.findByRole('option', { name: 'Bottling Line' })
  fireEvent.change(screen.getByLabelText('Declared for'), { target: { value: 'Bottling Line' } })
  fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'less will do' } })
  fireEvent.click(screen.getByRole('button', { name: 'Declare' }))
}

describe('declared CPUs', () => {
  it('opens a verdict to its evidence', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: /intruded/ }))
    expect(screen.getByRole('list').textContent).toMatch(
      /^intruded: curd-fermentlog ran .* It was from .* until .*, most from .* on; the holder’s threads waited 4\.3 s for a CPU meanwhile\.$/,
    )
  })
  it('declares with a reason, and undoes it to what was there before', async () => {
    await page()
    await declare('12-13')
    fireEvent.click(await screen.findByRole('button', { name: 'undo' }))
    await waitFor(() => expect(acts).toHaveLength(2))
    const same = { host: 'cellar-1', holder: 'Bottling Line', holder_kind: 'tenant', shared: false }
    expect(acts.map((a) => a.body)).toEqual([
      { ...same, cpus: '12-13', reason: 'less will do' },
      { ...same, cpus: '12-15', reason: 'undone' },
    ])
  })
  it('says what is wrong, and keeps what was typed', async () => {
    await page()
    await declare('99')
    expect((await screen.findByRole('alert')).textContent).toBe('CPU 99: cellar-1 has CPUs 0 to 15')
    expect((screen.getByLabelText('CPUs') as HTMLInputElement).value).toBe('99')
  })
  it('ends with a reason, and declares again when that is undone', async () => {
    await page()
    fireEvent.click(screen.getByRole('button', { name: 'End Bottling Line' }))
    fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'sold' } })
    fireEvent.click(screen.getByRole('button', { name: 'End it' }))
    fireEvent.click(await screen.findByRole('button', { name: 'undo' }))
    await waitFor(() => expect(acts).toHaveLength(2))
    expect(acts[0]).toEqual({ method: 'DELETE', path: '/api/v1/pins/7?reason=sold', body: undefined })
    expect(acts[1]!.body).toMatchObject({ cpus: '12-15', holder: 'Bottling Line', reason: 'undone' })
  })
})
