import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { said } from './Name'

/** What was done last, in words, and how it is undone. */
export type Done = { words: string; undo: () => Promise<unknown> }

/** Acts that can be undone, one at a time. What is shown is asked anew after each, and `after` closes its form. */
export function useUndoable(after: () => void) {
  const queries = useQueryClient()
  const [done, setDone] = useState<Done | null>(null)
  const act = useMutation({
    mutationFn: (run: () => Promise<Done | null>) => run(),
    onSuccess: async (d) => {
      setDone(d)
      after()
      await queries.invalidateQueries()
    },
  })
  const undo = () => {
    if (done) act.mutate(() => done.undo().then(() => null))
  }
  return { run: act.mutate, busy: act.isPending, error: act.error, done, undo }
}

/** What the last act came to: why it failed, or what it did, and the way back. */
export function Outcome({ of: { error, done, busy, undo } }: { of: ReturnType<typeof useUndoable> }) {
  return (
    <>
      {error && (
        <p role="alert" className="px-3.5 py-2 text-wine">
          {error.message}
        </p>
      )}
      {done && (
        <p role="status" className="px-3.5 py-2">
          {said(done.words)}{' '}
          <button type="button" className="link" disabled={busy} onClick={undo}>
            undo
          </button>
        </p>
      )}
    </>
  )
}

/** Asks for the reason before something is ended. */
export function Ending({
  onEnd,
  onLeave,
  busy,
}: {
  onEnd: (reason: string) => void
  onLeave: () => void
  busy: boolean
}) {
  const [reason, setReason] = useState('')
  return (
    <form
      className="flex gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        onEnd(reason)
      }}
    >
      <input
        className="w-28 rounded-xs border border-rule-2 bg-sheet px-2 py-0.5"
        aria-label="Reason"
        placeholder="reason"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      />
      <button type="submit" className="rounded-xs border border-wine px-2 text-wine" disabled={busy}>
        End it
      </button>
      <button type="button" className="link" onClick={onLeave}>
        leave it
      </button>
    </form>
  )
}
