import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { afterEach, expect, test, vi } from 'vitest'
import type { Act } from '../../api/client'
import { ActDialog } from './ActDialog'

afterEach(() => {
  cleanup()
  vi.unstubAllGlobals()
})

const register = [
  {
    verb: 'end',
    meaning: 'Ends it.',
    forms: ['family'],
    settings: [
      { name: 'force', meaning: 'end it at once', example: 'true' },
      { name: 'wait', meaning: 'how long', example: '10s' },
    ],
    undo: '',
  },
]

const process = (pid: number) => ({
  pid,
  start_ticks: 1,
  began_at: '2026-10-11T10:00:00Z',
  user: 'm.abt',
  program: 'pruner',
})

const act = (a: Partial<Act>): Act =>
  ({
    id: 'a1',
    host: 'press-1',
    verb: 'end',
    state: 'previewed',
    detail: '',
    reason: '',
    can_undo: false,
    preview: {
      target: 'process 7, pruner of m.abt, and its 1 descendants',
      identity: 'what-it-was',
      through: 'the kernel',
      processes: [process(7), process(8)],
      processes_total: 2,
      changes: [],
      shared: ['label-render'],
      warnings: ['what has ended cannot be brought back'],
      left: [{ what: 'process 9, sshd', why: 'it lets administrators in' }],
      undo: '',
      workloads: ['loose:1:pruner'],
    },
    outcome: null,
    ...a,
  }) as unknown as Act

/** A service that answers by what the calls are; it remembers what was sent. */
function serve(confirmed: Act) {
  const sent: [string, unknown][] = []
  const answer = (body: unknown) =>
    Promise.resolve(new Response(JSON.stringify(body), { headers: { 'Content-Type': 'application/json' } }))
  vi.stubGlobal('fetch', async (request: Request) => {
    const path = new URL(request.url).pathname.replace('/api/v1', '')
    if (request.method === 'POST') sent.push([path, await request.json()])
    if (path === '/acts/register') return answer(register)
    if (path === '/acts') return answer(act({}))
    return answer(confirmed)
  })
  return sent
}

function open(onDone = () => undefined) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <ActDialog
        aim={{ form: 'family', pid: 7, name: 'pruner and 1 below it', host: 'press-1' }}
        verb="end"
        onClose={() => undefined}
        onDone={onDone}
      />
    </QueryClientProvider>,
  )
}

test('nothing is carried out before it was shown and confirmed, and the confirmation names what was shown', async () => {
  const sent = serve(act({ state: 'partly', detail: '1 process ended, 1 did not' }))
  open()
  fireEvent.click(await screen.findByLabelText(/force/))
  fireEvent.click(screen.getByRole('button', { name: 'Show what it would do' }))
  const carry = await screen.findByRole('button', { name: 'End (2 processes)' })
  expect(sent).toEqual([
    [
      '/acts',
      { verb: 'end', host: 'press-1', settings: { force: 'true' }, reason: '', target: { form: 'family', pid: 7 } },
    ],
  ])
  const dialog = screen.getByRole('dialog').textContent
  for (const words of ['sshd', 'lets administrators in', 'label-render', 'cannot be brought back', 'cannot be undone'])
    expect(dialog).toContain(words)
  fireEvent.change(screen.getByLabelText('Reason'), { target: { value: ' the harvest ' } })
  fireEvent.click(carry)
  await waitFor(() => expect(screen.getByRole('status').textContent).toContain('partly: 1 process ended, 1 did not.'))
  expect(sent[1]).toEqual(['/acts/a1/confirm', { identity: 'what-it-was', reason: 'the harvest' }])
  expect(screen.queryByRole('button', { name: 'End (2 processes)' })).toBeNull()
})

test('what is refused is said, and cannot be confirmed', async () => {
  vi.stubGlobal('fetch', (request: Request) =>
    Promise.resolve(
      new Response(
        JSON.stringify(
          request.url.endsWith('register')
            ? register
            : act({ state: 'refused', detail: 'it is the first process of the host', preview: undefined }),
        ),
        { headers: { 'Content-Type': 'application/json' } },
      ),
    ),
  )
  open()
  fireEvent.click(await screen.findByRole('button', { name: 'Show what it would do' }))
  expect((await screen.findByRole('alert')).textContent).toBe('refused: it is the first process of the host')
  expect(screen.queryByRole('button', { name: /^End/ })).toBeNull()
})
