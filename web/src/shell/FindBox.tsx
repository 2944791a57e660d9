import { useNavigate } from '@tanstack/react-router'
import { useEffect, useId, useRef, useState } from 'react'
import type { Found } from '../api/client'
import { useFound } from '../api/queries'
import { shown } from '../figures/Name'
import { useTime } from '../time/useTime'

/** Where a thing that was found is shown. */
export function placeOf(f: Found) {
  switch (f.what) {
    case 'host':
      return { to: '/hosts/$host', params: { host: f.name } } as const
    case 'tenant':
      return { to: '/tenants/$tenant', params: { tenant: f.name } } as const
    case 'user':
      return { to: '/users/$user', params: { user: f.name } } as const
    default:
      return { to: '/workloads/$id', params: { id: String(f.id) } } as const
  }
}

const most = 10

/** One box that finds workloads, hosts, users and tenants by any of their names. The key / goes to it. */
export function FindBox() {
  const [words, setWords] = useState('')
  const [asked, setAsked] = useState('')
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(0)
  const input = useRef<HTMLInputElement>(null)
  const list = useId()
  const { search } = useTime()
  const navigate = useNavigate()
  const found = useFound(asked)
  const shownList = open && asked !== '' ? (found.data ?? []).slice(0, most) : []

  useEffect(() => {
    const soon = setTimeout(() => {
      setAsked(words.trim())
      setAt(0)
    }, 200)
    return () => clearTimeout(soon)
  }, [words])
  useEffect(() => {
    const focus = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName)
      if (e.key !== '/' || typing) return
      e.preventDefault()
      input.current?.focus()
    }
    addEventListener('keydown', focus)
    return () => removeEventListener('keydown', focus)
  }, [])

  const go = (f: Found | undefined) => {
    if (!f) return
    setOpen(false)
    setWords('')
    input.current?.blur()
    void navigate({ ...placeOf(f), search } as never)
  }
  return (
    <div role="search" className="relative">
      <input
        ref={input}
        type="search"
        role="combobox"
        aria-label="Find a workload, host, user or tenant"
        aria-expanded={shownList.length > 0}
        aria-controls={list}
        aria-activedescendant={shownList.length > 0 ? `${list}-${at}` : undefined}
        aria-autocomplete="list"
        placeholder="find: name, id, pid, user, label"
        className="w-46 rounded-xs border border-rule-2 bg-sheet px-2 py-0.5 max-sm:w-full"
        value={words}
        onChange={(e) => {
          setWords(e.target.value)
          setOpen(true)
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={(e) => {
          const n = shownList.length
          if (e.key === 'ArrowDown' && n > 0) setAt((at + 1) % n)
          else if (e.key === 'ArrowUp' && n > 0) setAt((at + n - 1) % n)
          else if (e.key === 'Enter') {
            // Not while the list still shows what earlier words found.
            if (asked === words.trim() && !found.isPlaceholderData) go(shownList[at])
          } else if (e.key === 'Escape') setWords('')
          else return
          e.preventDefault()
        }}
      />
      <ul
        id={list}
        role="listbox"
        aria-label="Found"
        hidden={shownList.length === 0}
        className="sheet absolute right-0 z-10 mt-1 w-120 max-w-[90vw] shadow-lg"
      >
        {shownList.map((f, i) => (
          <li
            key={`${f.what}/${f.id ?? f.name}`}
            id={`${list}-${i}`}
            role="option"
            aria-selected={i === at}
            className="grid cursor-pointer grid-cols-[1fr_auto] gap-x-3 border-b border-rule px-3 py-1.5 last:border-0 aria-selected:bg-vine-soft"
            onMouseDown={(e) => {
              e.preventDefault() // the box keeps the focus until the choice is made
              go(f)
            }}
            onMouseEnter={() => setAt(i)}
          >
            <b className="truncate font-semibold">{shown(f.name)}</b>
            <span className="text-ink-2">{f.kind || f.what}</span>
            <small className="col-span-2 truncate text-ink-2">
              {[f.host, f.owner, f.tenant, f.state]
                .filter(Boolean)
                .map((s) => shown(s!))
                .join(' · ')}
              {f.by !== 'name' && ` · ${shown(f.by)}`}
            </small>
          </li>
        ))}
      </ul>
      {open && asked !== '' && found.data?.length === 0 && words.trim() === asked && (
        <p role="status" className="sheet absolute right-0 z-10 mt-1 px-3 py-1.5 whitespace-nowrap text-ink-2">
          Nothing has this in its name, id, owner, labels or facts.
        </p>
      )}
    </div>
  )
}
