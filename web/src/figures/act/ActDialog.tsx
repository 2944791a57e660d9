import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { OverPage } from '../OverPage'
import { useEffect, useRef, useState, type FormEvent } from 'react'
import { answer, api, type Act, type ActEntry } from '../../api/client'
import { shown } from '../Name'
import { Preview, Result } from './Preview'
import { confirmWords, isUnderWay, requestOf, verbWords, type Aim } from './verbs'

/** Which acts there are and what they take: it changes only with the service. */
function useActRegister() {
  return useQuery({
    queryKey: ['act register'],
    queryFn: () => answer(api.GET('/api/v1/acts/register')),
    staleTime: Infinity,
  })
}

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

/** Asks again until an act is no longer on its way, or for a few minutes. */
async function settled(a: Act): Promise<Act> {
  for (let i = 0; i < 120 && isUnderWay(a); i++) {
    await pause(1000)
    a = await answer(api.GET('/api/v1/acts/{id}', { params: { path: { id: a.id } } }))
  }
  return a
}

/**
 * One act, from what it is to do to what came of it: first its settings, then what its host says it would touch, and
 * after it is confirmed the result.
 */
export function ActDialog({
  aim,
  verb,
  given,
  onClose,
  onDone,
}: {
  aim: Aim
  verb: string
  given?: Record<string, string> // the settings, where they are known
  onClose: () => void
  onDone: (a: Act) => void
}) {
  const register = useActRegister()
  const queries = useQueryClient()
  const entry = register.data?.find((e) => e.verb === verb)
  const ask = useMutation({
    mutationFn: async (p: { settings: Record<string, string>; reason: string }) =>
      settled(await answer(api.POST('/api/v1/acts', { body: requestOf(aim, verb, p.settings, p.reason) }))),
  })
  const confirm = useMutation({
    mutationFn: async ({ act: a, reason }: { act: Act; reason: string }) =>
      settled(
        await answer(
          api.POST('/api/v1/acts/{id}/confirm', {
            params: { path: { id: a.id } },
            body: { identity: a.preview?.identity ?? '', reason: reason.trim() },
          }),
        ),
      ),
    onSuccess: async (a) => {
      onDone(a)
      await queries.invalidateQueries()
    },
  })
  // What takes no settings, or has been given them, is previewed at once.
  const begun = useRef(false)
  useEffect(() => {
    if (entry && (given || entry.settings.length === 0) && !begun.current) {
      begun.current = true
      ask.mutate({ settings: given ?? {}, reason: '' })
    }
  }, [entry, ask, given])
  const [reason, setReason] = useState('')
  const over = confirm.data
  const previewed = ask.data
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <OverPage
        title={`${verbWords(verb)}: ${shown(aim.name)}`}
        about={`on ${aim.host || 'its host'}. ${entry?.meaning ?? ''}`}
        width="46rem"
      >
        <div className="overflow-y-auto px-4 py-3" aria-live="polite">
          {register.error && <Trouble error={register.error} />}
          {!previewed && !given && entry && entry.settings.length > 0 && (
            <Settings
              entry={entry}
              isBusy={ask.isPending}
              onAsk={(settings, reason) => ask.mutate({ settings, reason })}
            />
          )}
          {ask.isPending && <p className="text-ink-2">Asking {aim.host || 'its host'} what it would do …</p>}
          {ask.error && <Trouble error={ask.error} />}
          {previewed && !over && (
            <>
              <Preview of={previewed} />
              {confirm.isPending && <p className="mt-2 text-ink-2">Carrying it out …</p>}
              {confirm.error && <Trouble error={confirm.error} />}
            </>
          )}
          {over && <Result of={over} />}
        </div>
        <div className="flex flex-wrap items-center gap-3 border-t border-rule-2 px-4 py-2.5">
          {previewed?.state === 'previewed' && !over && previewed.reason === '' && (
            <input
              className="w-48 rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5"
              aria-label="Reason"
              placeholder="reason, for the record"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
          )}
          {previewed?.state === 'previewed' && !over && (
            <button
              type="button"
              className={verb === 'end' ? 'button button-wine' : 'button button-vine'}
              disabled={confirm.isPending}
              onClick={() => confirm.mutate({ act: previewed, reason })}
            >
              {confirmWords(previewed)}
            </button>
          )}
          <Dialog.Close className="button">
            {over || (previewed && previewed.state !== 'previewed') ? 'Close' : 'Leave it'}
          </Dialog.Close>
          {previewed && (
            <span className="ml-auto font-mono text-[12.5px] text-ink-2" title="The number of this act in the record">
              {previewed.id}
            </span>
          )}
        </div>
      </OverPage>
    </Dialog.Root>
  )
}

function Trouble({ error }: { error: Error }) {
  return (
    <p role="alert" className="text-wine">
      {error.message}
    </p>
  )
}

/** The settings of an act, by the register. */
function Settings({
  entry,
  isBusy,
  onAsk,
}: {
  entry: ActEntry
  isBusy: boolean
  onAsk: (settings: Record<string, string>, reason: string) => void
}) {
  const [settings, setSettings] = useState<Record<string, string>>({})
  const [reason, setReason] = useState('')
  const set = (name: string, value: string) => setSettings((s) => ({ ...s, [name]: value }))
  const submit = (e: FormEvent) => {
    e.preventDefault()
    onAsk(settings, reason)
  }
  return (
    <form onSubmit={submit} className="grid gap-2.5">
      {entry.settings.map((s) =>
        s.example === 'true' ? (
          <label key={s.name} className="flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={settings[s.name] === 'true'}
              onChange={(e) => set(s.name, e.target.checked ? 'true' : '')}
            />
            <span>
              <span className="font-semibold">{s.name}</span> <span className="text-ink-2">{s.meaning}</span>
            </span>
          </label>
        ) : (
          <label key={s.name} className="grid grid-cols-[7.5rem_11rem_1fr] items-baseline gap-x-3 max-sm:grid-cols-1">
            <span className="font-semibold">{s.name}</span>
            <input
              className="rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5"
              placeholder={s.example}
              value={settings[s.name] ?? ''}
              onChange={(e) => set(s.name, e.target.value)}
            />
            <span className="text-[12.5px] text-ink-2">{s.meaning}</span>
          </label>
        ),
      )}
      <label className="grid grid-cols-[7.5rem_1fr] items-baseline gap-x-3 max-sm:grid-cols-1">
        <span className="font-semibold">reason</span>
        <input
          className="rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5"
          placeholder="for the record"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
      </label>
      <div>
        <button type="submit" className="button button-vine" disabled={isBusy}>
          Show what it would do
        </button>
      </div>
    </form>
  )
}
