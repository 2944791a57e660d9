import {
  createMemoryHistory,
  createRootRoute,
  createRoute,
  createRouter,
  Outlet,
  RouterProvider,
} from '@tanstack/react-router'
import { act, cleanup, render, screen } from '@testing-library/react'
import { afterEach, expect, test, vi } from 'vitest'
import { leave, Page } from './Page'

afterEach(() => {
  vi.unstubAllGlobals()
  cleanup()
})

const pages = () => {
  const root = createRootRoute({
    component: () => (
      <Page>
        <Outlet />
      </Page>
    ),
    beforeLoad: (): Promise<void> | undefined => leave(router),
  })
  const page = (path: string, name: string) =>
    createRoute({ getParentRoute: () => root, path, component: () => <h1>{name}</h1> })
  const router = createRouter({
    routeTree: root.addChildren([page('/', 'First'), page('/hosts', 'Second')]),
    history: createMemoryHistory(),
  })
  return router
}

const isShown = () => !screen.getByRole('main', { hidden: true }).hidden

test('A page that is left is hidden at once, and taken down behind the frame that no longer shows it', async () => {
  const router = pages()
  render(<RouterProvider router={router as never} />)
  await screen.findByText('First')
  const frames: FrameRequestCallback[] = []
  vi.stubGlobal('requestAnimationFrame', (f: FrameRequestCallback) => frames.push(f))
  await act(async () => {
    void router.navigate({ to: '/hosts' })
    await new Promise((done) => setTimeout(done, 50))
  })
  expect([isShown(), screen.queryByText('First')?.tagName]).toEqual([false, 'H1'])
  frames.forEach((f) => f(0))
  await screen.findByText('Second')
  expect([isShown(), screen.queryByText('First')]).toEqual([true, null])
})

test('A page of which something else is asked stays in view', async () => {
  const router = pages()
  render(<RouterProvider router={router as never} />)
  await screen.findByText('First')
  const frame = vi.fn()
  vi.stubGlobal('requestAnimationFrame', frame)
  const shown = vi.fn()
  const watch = new MutationObserver(shown)
  watch.observe(screen.getByRole('main'), { attributes: true })
  await act(() => router.navigate({ to: '/', search: { span: '6h' } as never }))
  watch.disconnect()
  expect([frame.mock.calls, shown.mock.calls]).toEqual([[], []])
  expect([isShown(), router.state.location.search]).toEqual([true, { span: '6h' }])
})

test('A window that nobody sees, which draws no frame, goes to a page nevertheless', async () => {
  const router = pages()
  render(<RouterProvider router={router as never} />)
  await screen.findByText('First')
  vi.stubGlobal('requestAnimationFrame', vi.fn())
  await act(() => router.navigate({ to: '/hosts' }))
  await screen.findByText('Second')
  expect(isShown()).toBe(true)
})
