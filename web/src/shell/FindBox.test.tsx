import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createMemoryHistory, createRoute, createRouter, RouterProvider } from '@tanstack/react-router'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { FindBox } from './FindBox'
import { rootOfPage } from '../test/page'

const found = [
  { what: 'host', name: 'must-1', by: 'name', exact: false },
  {
    what: 'workload',
    id: 7,
    name: 'must-\u202e7',
    kind: 'container',
    owner: 'svc-cellar',
    tenant: 'Cellar Intake',
    host: 'cellar-1',
    state: 'running',
    by: 'label coop.project=cellar',
    exact: false,
  },
]

const asked: string[] = []

beforeEach(() => {
  asked.length = 0
  vi.stubGlobal('fetch', (request: Request) => {
    const words = new URL(request.url).searchParams.get('words') ?? ''
    asked.push(words)
    return Promise.resolve(
      new Response(JSON.stringify(words.startsWith('must') ? found : []), {
        headers: { 'Content-Type': 'application/json' },
      }),
    )
  })
})

afterEach(() => {
  cleanup()
  vi.unstubAllGlobals()
})

async function box() {
  const root = rootOfPage()
  const at = (path: string) => createRoute({ getParentRoute: () => root, path, component: FindBox })
  const router = createRouter({
    routeTree: root.addChildren([at('/'), at('/hosts/$host'), at('/workloads/$id')]),
    history: createMemoryHistory(),
    origin: 'http://books.example',
  })
  render(
    <QueryClientProvider client={new QueryClient()}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  )
  return { router, input: (await screen.findByRole('combobox')) as HTMLInputElement }
}

describe('the box that finds anything', () => {
  it('lists what was found, goes by keyboard, and shows what is not seen as its code', async () => {
    const { router, input } = await box()
    fireEvent.keyDown(document.body, { key: '/' })
    expect(document.activeElement).toBe(input)
    fireEvent.change(input, { target: { value: 'must' } })
    const options = await screen.findAllByRole('option')
    expect(options.map((o) => o.textContent)).toEqual([
      'must-1host',
      'must-\\u202e7containercellar-1 · svc-cellar · Cellar Intake · running · label coop.project=cellar',
    ])
    expect(input.getAttribute('aria-activedescendant')).toBe(options[0]!.id)
    fireEvent.keyDown(input, { key: 'ArrowDown' })
    expect(input.getAttribute('aria-activedescendant')).toBe(options[1]!.id)
    fireEvent.keyDown(input, { key: 'Enter' })
    await waitFor(() => expect(router.state.location.pathname).toBe('/workloads/7'))
  })
  it('asks once one stops typing, and says when nothing was found', async () => {
    const { input } = await box()
    for (const value of ['v', 'vi', 'vineyard']) fireEvent.change(input, { target: { value } })
    fireEvent.focus(input)
    expect(await screen.findByRole('status')).toBeTruthy()
    expect(asked).toEqual(['vineyard'])
    fireEvent.keyDown(input, { key: 'Escape' })
    expect(input.value).toBe('')
  })
})
