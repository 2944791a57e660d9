import { useQueryClient } from '@tanstack/react-query'
import { Link, Outlet, useSearch } from '@tanstack/react-router'
import { useState } from 'react'
import { answer, api } from '../api/client'
import { useFollow } from '../api/follow'
import { useIdentity, useMeasures, useWords } from '../api/queries'
import { setRegister } from '../figures/register'
import { setWords } from '../figures/words'
import { Waiting } from '../figures/Trouble'
import type { TimeSearch } from '../time/span'
import { useTime } from '../time/useTime'
import { FindBox } from './FindBox'
import { SignIn } from './SignIn'
import { TimeRuler } from './TimeRuler'
import { applyTheme, currentTheme } from './theme'

/** What is on every page: the name, the way about, the time ruler. Without a valid token, the sign-in. */
export function Shell() {
  const me = useIdentity()
  const measures = useMeasures(me.isSuccess)
  const words = useWords(me.isSuccess)
  if (me.isPending) return null
  if (me.isError) return <SignIn />
  if (!measures.data) return <Waiting error={measures.error} what="The register of measures" />
  setRegister(measures.data)
  if (words.data) setWords(words.data)
  return (
    <>
      <a href="#main" className="sr-only focus:not-sr-only">
        Skip to the figures
      </a>
      <Top />
      <Body />
    </>
  )
}

function Body() {
  const { span } = useTime()
  useFollow(span)
  return (
    <>
      <TimeRuler />
      <main id="main" className="px-7 pt-4.5 pb-10 max-sm:px-3">
        <Outlet />
      </main>
    </>
  )
}

const pages = [
  { to: '/', name: 'Balance' },
  { to: '/hosts', name: 'Hosts' },
  { to: '/workloads', name: 'Workloads' },
  { to: '/disks', name: 'Disks' },
  { to: '/network', name: 'Network' },
  { to: '/gpus', name: 'GPUs' },
  { to: '/events', name: 'Events' },
  { to: '/acts', name: 'Acts' },
  { to: '/rules', name: 'Rules' },
] as const

function Top() {
  const search = useSearch({ strict: false }) as TimeSearch
  const [theme, setTheme] = useState(currentTheme)
  const queries = useQueryClient()
  const other = theme === 'dark' ? 'light' : 'dark'
  const signOut = async () => {
    await answer(api.POST('/api/v1/sign-out'))
    queries.clear()
    location.reload()
  }
  return (
    <header className="flex flex-wrap items-baseline gap-x-6 gap-y-1 px-7 pt-3.5 pb-2.5 max-sm:px-3">
      <span className="font-serif text-[19px] leading-none font-[650]">
        Vine<span className="text-vine">Scale</span>
      </span>
      <nav aria-label="Pages" className="flex flex-wrap gap-x-4.5 gap-y-1">
        {pages.map((p) => (
          <Link
            key={p.to}
            to={p.to}
            search={search}
            activeOptions={{ exact: p.to === '/', includeSearch: false }}
            className="pb-0.5 text-ink-2! [&.active]:border-b-2 [&.active]:border-vine [&.active]:font-semibold [&.active]:text-ink!"
          >
            {p.name}
          </Link>
        ))}
      </nav>
      <div className="ml-auto flex flex-wrap items-baseline gap-4">
        <FindBox />
        <button
          type="button"
          className="link"
          onClick={() => {
            applyTheme(other)
            setTheme(other)
          }}
        >
          {other}
        </button>
        <button type="button" className="link" onClick={() => void signOut()}>
          sign out
        </button>
      </div>
    </header>
  )
}
