import { DropdownMenu } from 'radix-ui'
import { useState } from 'react'
import type { Act } from '../../api/client'
import { useIdentity } from '../../api/queries'
import { shown } from '../Name'
import { ActDialog } from './ActDialog'
import { isWell, offersOf, verbWords, type Aim } from './verbs'

/** Whether who is signed in may act at all; on what, the service says. */
export function useMayAct(): boolean {
  const role = useIdentity().data?.role
  return role === 'administrator' || role === 'operator'
}

/**
 * The acts on one thing, and on what stands beside it, such as a service's unit: a menu, and what came of the last
 * one, with the way back. Nothing for who only reads.
 */
export function ActButton({ aim, beside, label = 'Act' }: { aim: Aim; beside?: Aim; label?: string }) {
  const mayAct = useMayAct()
  const [chosen, setChosen] = useState<{ aim: Aim; verb: string } | null>(null)
  const [last, setLast] = useState<Act | null>(null)
  const [undoing, setUndoing] = useState(false)
  if (!mayAct) return null
  const offers = offersOf(aim, beside)
  return (
    <span className="inline-flex flex-wrap items-baseline gap-2">
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className="button" aria-label={`Act on ${aim.name}`}>
          {label} <span aria-hidden>▾</span>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={4}
            className="z-20 min-w-44 rounded-[3px] border border-rule-2 bg-sheet py-1 shadow-sm"
          >
            {offers.map((of) => (
              <DropdownMenu.Group key={of.aim.form}>
                <DropdownMenu.Label className="max-w-72 truncate px-3 py-1 text-[12.5px] text-ink-2">
                  {shown(of.aim.name)}
                </DropdownMenu.Label>
                {of.verbs.map((v) => (
                  <DropdownMenu.Item
                    key={v}
                    onSelect={() => setChosen({ aim: of.aim, verb: v })}
                    className={`cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-vine-soft ${v === 'end' ? 'text-wine' : ''}`}
                  >
                    {verbWords(v)} …
                  </DropdownMenu.Item>
                ))}
              </DropdownMenu.Group>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {last && (
        <span role="status" className={`text-[12.5px] ${isWell(last) ? 'text-ink-2' : 'text-wine'}`}>
          {verbWords(last.verb)}: {last.state}{' '}
          {last.can_undo && (
            <button type="button" className="link" onClick={() => setUndoing(true)}>
              undo
            </button>
          )}
        </span>
      )}
      {chosen && <ActDialog {...chosen} onClose={() => setChosen(null)} onDone={setLast} />}
      {undoing && last && (
        <ActDialog
          aim={{ form: 'act', act: last.id, name: aim.name, host: aim.host }}
          verb="undo"
          onClose={() => setUndoing(false)}
          onDone={setLast}
        />
      )}
    </span>
  )
}
