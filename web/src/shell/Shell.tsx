import { choices, setChoices } from '../choices/choices'
import { ChoicesDialog } from '../choices/ChoicesDialog'
import { useQueryClient } from '@tanstack/react-query'
import { Link, Outlet, useMatches, useRouter, useSearch } from '@tanstack/react-router'
import { lazy, Suspense, useCallback, useEffect, useRef } from 'react'
import { answer, api, type Choices } from '../api/client'
import { useFollow } from '../api/follow'
import { useChoices, useIdentity, useMeasures, useSetChoices, useWords } from '../api/queries'
import { stripSpan, useStrip } from '../folio/useStrip'
import { setRegister } from '../figures/register'
import { setWords } from '../figures/words'
import { Later } from '../figures/Later'
import { Waiting } from '../figures/Trouble'
import type { TimeSearch } from '../time/span'
import { TimeOfPage } from '../time/TimeOfPage'
import { useTime } from '../time/useTime'
import { FindBox } from './FindBox'
import { Page } from './Page'
import { SignIn } from './SignIn'
import { TimeRuler } from './TimeRuler'
import { applyChoices, currentTheme } from './theme'

/** It draws plates, and is loaded once somebody wants it. */
const Strip = lazy(async () => ({ default: (await import('../folio/Strip')).Strip }))

/** What is on every page: the name, the way about, the time ruler. Without a valid token, the sign-in. */
export function Shell() {
  const me = useIdentity()
  const measures = useMeasures(me.isSuccess)
  const words = useWords(me.isSuccess)
  const chosen = useChoices(me.isSuccess)
  const begun = useRef(false)
  const router = useRouter()
  const goTo = useCallback((address: string) => router.history.replace(address), [router])
  useEffect(() => {
    if (!chosen.data) return
    applyChoices(chosen.data)
    // Whoever opens the console itself, and not one of its pages, comes to the page of their choice.
    const { first } = chosen.data
    if (!begun.current && first && location.pathname === '/' && location.search === '') goTo(first)
    begun.current = true
  }, [chosen.data, goTo])
  if (me.isPending) return null
  if (me.isError) return <SignIn />
  if (!measures.data) return <Waiting error={measures.error} what="The register of measures" />
  if (!chosen.data) return <Waiting error={chosen.error} what="What you have chosen" />
  setRegister(measures.data)
  setChoices(chosen.data)
  if (words.data) setWords(words.data)
  const shown = shownBy(chosen.data)
  if (location.pathname === stripPath)
    return (
      <TimeOfPage>
        <OwnWindow key={shown} />
      </TimeOfPage>
    )
  return (
    <TimeOfPage>
      <a href="#main" className="sr-only focus:not-sr-only">
        Skip to the figures
      </a>
      <Top />
      <Body key={shown} />
    </TimeOfPage>
  )
}

/** The choices that all that is shown goes by. Columns and what is in view are read where they are shown. */
const shownBy = (c: Choices) =>
  JSON.stringify(
    Object.entries(c)
      .filter(([name]) => !['columns', 'widths', 'strip', 'strip_at'].includes(name))
      .sort(),
  )

/** Where the strip is that stands in a window of its own. */
const stripPath = '/strip'

function OwnWindow() {
  const { span } = useTime()
  useFollow(span.live ? span : stripSpan)
  return (
    <main id="main">
      <h1 className="sr-only">In view</h1>
      <Suspense>
        <Strip isWindow />
      </Suspense>
    </main>
  )
}

function Body() {
  const { span } = useTime()
  const page = useMatches({ select: (matches) => matches.at(-1)?.pathname })
  const strip = useStrip()
  const hasStrip = strip.isShown && strip.plates.length > 0
  useFollow(span.live || !hasStrip ? span : stripSpan)
  return (
    <>
      <div className="print:hidden">
        <TimeRuler />
        <Suspense>{strip.isShown && <Strip />}</Suspense>
      </div>
      <Page>
        <Later key={page}>
          <Outlet />
        </Later>
      </Page>
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
  { to: '/plan', name: 'Plan' },
  { to: '/statements', name: 'Statements' },
  { to: '/rules', name: 'Rules' },
  { to: '/folios', name: 'Folios' },
] as const

function Top() {
  const search = useSearch({ strict: false }) as TimeSearch
  const queries = useQueryClient()
  const set = useSetChoices()
  const strip = useStrip()
  const other = currentTheme(choices().theme) === 'dark' ? 'light' : 'dark'
  const signOut = async () => {
    await answer(api.POST('/api/v1/sign-out'))
    queries.clear()
    location.reload()
  }
  return (
    <header className="flex flex-wrap items-baseline gap-x-4.5 gap-y-1 px-7 pt-3.5 pb-2.5 max-sm:px-3 print:hidden">
      <span className="font-serif text-[19px] leading-none font-[650]">
        Vine<span className="text-vine">Scale</span>
      </span>
      <nav aria-label="Pages" className="flex flex-wrap gap-x-3.5 gap-y-1">
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
      <div className="ml-auto flex flex-wrap items-baseline gap-3">
        <FindBox />
        <button
          type="button"
          className="link"
          aria-pressed={strip.isShown}
          title="A few figures that are always in view"
          onClick={() => strip.show(!strip.isShown)}
        >
          in view
        </button>
        <ChoicesDialog />
        <button type="button" className="link" onClick={() => set.mutate({ theme: other })}>
          {other}
        </button>
        <button type="button" className="link" onClick={() => void signOut()}>
          sign out
        </button>
      </div>
    </header>
  )
}
