import { flushSync } from 'react-dom'
import { useEffect, useReducer, useRef, useState, type ReactNode } from 'react'
import type { KeptFolio, Plate } from '../../api/client'
import { useChangeFolio, useMatters } from '../../api/queries'
import {
  added,
  begun,
  changed,
  copied,
  done,
  draftOf,
  folioOf,
  heightened,
  moved,
  placeOf,
  plateOf,
  putIn,
  redone,
  removed,
  undone,
  widened,
  type Direction,
  type Draft,
  type DraftPlate,
  type DraftRow,
  type History,
  type Target,
} from '../../folio/draft'
import { titleOf, type Chosen } from '../../folio/plate'
import { PlateDialog } from '../../folio/PlateDialog'
import { heights, PlateSheet } from '../../folio/PlateSheet'
import { Choice } from '../../figures/Choice'
import { useTime } from '../../time/useTime'
import { Rows } from './Rows'

type Step = { to: (d: Draft) => Draft } | 'undo' | 'redo'

const step = (h: History, s: Step): History =>
  s === 'undo' ? undone(h) : s === 'redo' ? redone(h) : done(h, s.to(h.now))

/**
 * Composing a folio: what is done is kept at once, and can be undone. Plates are moved by dragging them, or by the arrow
 * keys where their handle has the focus.
 */
export function Composer({
  kept,
  chosen,
  choosers,
  leave,
}: {
  kept: KeptFolio
  chosen: Chosen
  choosers: ReactNode
  leave: () => void
}) {
  const matters = useMatters().data!
  const { span } = useTime()
  const [history, take] = useReducer(step, kept.folio, (f) => begun(draftOf(f)))
  const [shared, setShared] = useState(kept.whose === 'shared')
  const [dialog, setDialog] = useState<{ of?: DraftPlate } | null>(null)
  const [told, setTold] = useState('')
  const draft = history.now
  const keeping = useKeeping(kept, draft, shared)
  const act = (to: (d: Draft) => Draft, words: string) => {
    take({ to })
    setTold(words)
  }
  const drag = useDrag((key, target) => act((d) => putIn(d, key, target), 'moved'))
  const back = useRef<HTMLElement | null>(null) // what had the focus before a dialog
  const open = (of?: DraftPlate) => {
    back.current = document.activeElement as HTMLElement
    setDialog({ of })
  }
  const close = () => {
    setDialog(null)
    setTimeout(() => back.current?.focus())
  }
  const name = (p: Plate) =>
    titleOf(
      p,
      matters.find((m) => m.name === p.of),
    )
  return (
    <div
      onKeyDown={(e) => {
        const isTyping = (e.target as HTMLElement).matches('input, textarea, select')
        if (isTyping || !(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== 'z') return
        e.preventDefault()
        take(e.shiftKey ? 'redo' : 'undo')
      }}
    >
      <h1 className="sr-only">{draft.title}</h1>
      <div className="mb-3 flex flex-wrap items-baseline gap-x-3.5 gap-y-2">
        <input
          aria-label="Title"
          className="w-80 max-w-full rounded-[3px] border border-rule-2 bg-sheet px-2 py-0.5 font-serif text-[20px]"
          maxLength={120}
          value={draft.title}
          onChange={(e) => take({ to: (d) => ({ ...d, title: e.target.value }) })}
        />
        {choosers}
        <span className="ml-auto flex flex-wrap gap-2 text-[13px]">
          <button type="button" className="button button-vine" onClick={() => open()}>
            Add a plate
          </button>
          <button type="button" className="button" disabled={history.past.length === 0} onClick={() => take('undo')}>
            Undo
          </button>
          <button type="button" className="button" disabled={history.future.length === 0} onClick={() => take('redo')}>
            Do it again
          </button>
          <button type="button" className="button" onClick={leave} disabled={keeping.isKeeping}>
            Done
          </button>
        </span>
        <span className="h-0 basis-full" aria-hidden />
        <input
          aria-label="What it is for"
          className="w-160 max-w-full rounded-[3px] border border-rule-2 bg-sheet px-2 py-0.5 font-serif"
          maxLength={600}
          placeholder="What it is for, in a sentence"
          value={draft.about}
          onChange={(e) => take({ to: (d) => ({ ...d, about: e.target.value }) })}
        />
        <label className="text-[13px]">
          <input type="checkbox" checked={shared} className="mr-1.5" onChange={(e) => setShared(e.target.checked)} />
          shared with the site
        </label>
        <span className={`text-[12.5px] ${keeping.error ? 'text-wine' : 'text-ink-2'}`} role="status">
          {keeping.error ? `Not kept: ${keeping.error}` : keeping.isKeeping ? 'keeping it…' : 'kept'}
          <span className="sr-only"> {told}</span>
        </span>
      </div>
      <p className="mb-3 text-[12.5px] text-ink-2">
        Drag a plate by its handle. With the handle in focus, the arrow keys move it, and Shift with left or right makes
        it narrower or wider.
      </p>
      {draft.rows.length === 0 && <p className="mb-3 font-serif">It has no plates yet: add one.</p>}
      <Rows
        rows={draft.rows}
        before={(row) => (
          <div
            data-gap={row}
            className={`-mt-3 mb-1 h-2 rounded-full ${drag.isOver({ before: row }) ? 'bg-vine' : ''}`}
            aria-hidden
          />
        )}
        plate={(p, row, at) => (
          <div className={`relative grid min-w-0 ${drag.key === p.key ? 'opacity-50' : ''}`}>
            {drag.isOver(at) && <i className="absolute inset-y-0 -left-3 z-10 w-1 rounded-full bg-vine" aria-hidden />}
            {drag.isOver({ row: at.row, at: at.at + 1 }) && at.at === row.plates.length - 1 && (
              <i className="absolute inset-y-0 -right-3 z-10 w-1 rounded-full bg-vine" aria-hidden />
            )}
            <PlateSheet
              plate={p}
              matter={matters.find((m) => m.name === p.of)}
              chosen={chosen}
              span={span}
              high={heights[row.height]}
              tools={
                <Tools
                  plate={p}
                  name={name(p)}
                  row={row}
                  isFirst={at.at === 0}
                  grip={drag.grip}
                  move={(to) => act((d) => moved(d, p.key, to), `${name(p)} moved ${to}`)}
                  widen={(by) => act((d) => widened(d, p.key, by), by > 0 ? 'wider' : 'narrower')}
                  change={() => open(p)}
                  copy={() => act((d) => copied(d, p.key), `${name(p)} copied`)}
                  remove={() => act((d) => removed(d, p.key), `${name(p)} removed`)}
                  heighten={(h) => act((d) => heightened(d, placeOf(d, p.key)!.row, h), 'another height')}
                />
              }
            />
          </div>
        )}
      />
      {dialog && (
        <PlateDialog
          title={dialog.of ? `Change ${name(dialog.of)}` : 'Add a plate'}
          matters={matters}
          was={dialog.of && plateOf(dialog.of)}
          chosen={chosen}
          span={span}
          keep={(p) => {
            const { of } = dialog
            if (of) act((d) => changed(d, of.key, plateOf(p)), 'changed')
            else act((d) => added(d, plateOf(p)), `${name(p)} added`)
            close()
          }}
          close={close}
        />
      )}
    </div>
  )
}

/** Keeps what was composed, one version after the other: while one is on its way, only the newest waits. */
function useKeeping(kept: KeptFolio, draft: Draft, shared: boolean): { isKeeping: boolean; error?: string } {
  const { mutate, isPending, error } = useChangeFolio(kept.name)
  const folio = folioOf(draft)
  const wanted = JSON.stringify({ folio, shared })
  const [last, setLast] = useState(() => ({
    text: JSON.stringify({ folio: folioOf(draftOf(kept.folio)), shared: kept.whose === 'shared' }),
    version: kept.version,
  }))
  const [refused, setRefused] = useState('')
  const isBlank = folio.title.trim() === ''
  const isDue = wanted !== last.text && wanted !== refused && !isBlank
  useEffect(() => {
    if (!isDue || isPending) return
    // Letters come one after the other: they are kept together.
    const timer = setTimeout(() => {
      mutate(
        { ...(JSON.parse(wanted) as { folio: KeptFolio['folio']; shared: boolean }), version: last.version },
        {
          onSuccess: (k) => setLast({ text: wanted, version: k.version }),
          onError: () => setRefused(wanted),
        },
      )
    }, 250)
    return () => clearTimeout(timer)
  }, [isDue, isPending, wanted, last.version, mutate])
  return {
    isKeeping: isDue || isPending,
    error: isBlank ? 'a folio needs a title' : refused === wanted && refused !== '' ? error?.message : undefined,
  }
}

/** What can be done with a plate. */
function Tools({
  plate,
  name,
  row,
  isFirst,
  grip,
  move,
  widen,
  change,
  copy,
  remove,
  heighten,
}: {
  plate: DraftPlate
  name: string
  row: DraftRow
  isFirst: boolean
  grip: (key: number) => { onPointerDown: (e: React.PointerEvent) => void }
  move: (to: Direction) => void
  widen: (by: number) => void
  change: () => void
  copy: () => void
  remove: () => void
  heighten: (h: DraftRow['height']) => void
}) {
  const handle = useRef<HTMLButtonElement>(null)
  const ways: Record<string, Direction> = { ArrowLeft: 'left', ArrowRight: 'right', ArrowUp: 'up', ArrowDown: 'down' }
  return (
    <span className="ml-auto flex flex-wrap items-baseline gap-x-2.5 text-[12.5px]">
      <button
        ref={handle}
        type="button"
        className="button cursor-grab touch-none select-none"
        aria-label={`Move ${name}: arrow keys; with Shift left and right narrower and wider`}
        title="Drag it, or use the arrow keys"
        data-handle={plate.key}
        {...grip(plate.key)}
        onKeyDown={(e) => {
          const to = ways[e.key]
          if (!to) return
          e.preventDefault()
          flushSync(() => {
            if (e.shiftKey && (to === 'left' || to === 'right')) widen(to === 'left' ? -1 : 1)
            else move(to)
          })
          // In another row it is another element: the focus goes with the plate, before the next key comes.
          document.querySelector<HTMLElement>(`[data-handle="${plate.key}"]`)?.focus()
        }}
      >
        move
      </button>
      <button type="button" className="link" onClick={change} aria-label={`Change ${name}`}>
        change…
      </button>
      <button type="button" className="link" onClick={copy} aria-label={`Copy ${name}`}>
        copy
      </button>
      <button type="button" className="link" onClick={remove} aria-label={`Remove ${name}`}>
        remove
      </button>
      {isFirst && (
        <span className="flex gap-2 text-ink-2">
          its row:
          <Choice
            label={`Height of the row of ${name}`}
            value={row.height || 'usual'}
            set={(v) => heighten(v === 'usual' ? '' : (v as DraftRow['height']))}
            all={{ low: 'low', usual: 'usual', high: 'high' }}
          />
        </span>
      )}
    </span>
  )
}

/** Dragging plates by the pointer: which one, over where it would be put, and putting it there. */
function useDrag(put: (key: number, target: Target) => void) {
  const [drag, setDrag] = useState<{ key: number; over: Target | null } | null>(null)
  const over = useRef<Target | null>(null) // as of the last move, drawn or not
  const putting = useRef(put)
  useEffect(() => {
    putting.current = put
  })
  const key = drag?.key
  useEffect(() => {
    if (key === undefined) return
    const move = (e: PointerEvent) => {
      over.current = targetAt(e.clientX, e.clientY)
      setDrag({ key, over: over.current })
    }
    const end = (e: PointerEvent) => {
      if (e.type === 'pointerup' && over.current) putting.current(key, behind(over.current, key))
      setDrag(null)
    }
    const escape = (e: KeyboardEvent) => e.key === 'Escape' && setDrag(null)
    addEventListener('pointermove', move)
    addEventListener('pointerup', end)
    addEventListener('pointercancel', end)
    addEventListener('keydown', escape)
    return () => {
      removeEventListener('pointermove', move)
      removeEventListener('pointerup', end)
      removeEventListener('pointercancel', end)
      removeEventListener('keydown', escape)
    }
  }, [key])
  return {
    key,
    isOver: (t: Target) => {
      const over = drag?.over
      if (!over) return false
      if ('before' in t) return 'before' in over && over.before === t.before
      return !('before' in over) && over.row === t.row && over.at === t.at
    },
    grip: (of: number) => ({
      onPointerDown: (e: React.PointerEvent) => {
        if (e.button !== 0) return
        over.current = null
        setDrag({ key: of, over: null })
      },
    }),
  }
}

/** Where a plate that is let go at a point would be put: before or behind another, or in a row of its own. */
function targetAt(x: number, y: number): Target | null {
  const gaps = [...document.querySelectorAll<HTMLElement>('[data-gap]')]
  const gap = gaps.find((g) => {
    const box = g.getBoundingClientRect()
    return Math.abs(y - (box.top + box.bottom) / 2) < 12
  })
  if (gap) return { before: Number(gap.dataset.gap) }
  const plate = document.elementFromPoint(x, y)?.closest<HTMLElement>('[data-plate]')
  const row = plate?.closest<HTMLElement>('[data-row]')
  if (!plate || !row) return null
  const box = plate.getBoundingClientRect()
  const at = [...row.querySelectorAll('[data-plate]')].indexOf(plate)
  return { row: Number(row.dataset.row), at: x < (box.left + box.right) / 2 ? at : at + 1 }
}

/** A target in the plate's own row, counted without the plate itself. */
function behind(over: Target, key: number): Target {
  if ('before' in over) return over
  const row = document.querySelector(`[data-row="${over.row}"]`)
  const own = [...(row?.querySelectorAll<HTMLElement>('[data-plate]') ?? [])].findIndex(
    (p) => p.dataset.plate === String(key),
  )
  return own >= 0 && own < over.at ? { ...over, at: over.at - 1 } : over
}
