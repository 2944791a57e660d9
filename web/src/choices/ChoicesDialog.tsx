import { Dialog } from 'radix-ui'
import { OverPage } from '../figures/OverPage'
import { useId, type ReactNode } from 'react'
import type { Choices } from '../api/client'
import { useChosenMeanwhile, useSetChoices, useTenants } from '../api/queries'
import { Choice } from '../figures/Choice'
import { paces, usualPace } from '../time/span'
import { hasSiteZone, usual, usualZone, type Change } from './choices'
import { withColour } from './lists'

/** The pages that the console can begin with. */
const firstPages: Record<string, string> = {
  '': 'Balance',
  '/hosts': 'Hosts',
  '/workloads': 'Workloads',
  '/disks': 'Disks',
  '/network': 'Network',
  '/gpus': 'GPUs',
  '/events': 'Events',
  '/acts': 'Acts',
  '/folios': 'Folios',
}

const field = 'rounded-[3px] border border-rule-2 bg-paper px-2 py-0.5 text-[13px] text-ink'

/** How figures are shown to whoever is signed in. Each choice holds at once, everywhere, and is kept with the person. */
export function ChoicesDialog() {
  const set = useSetChoices()
  const now = useChosenMeanwhile()
  const here = location.pathname + location.search
  const choose = (change: Change) => set.mutate(change)
  return (
    <Dialog.Root>
      <Dialog.Trigger asChild>
        <button type="button" className="link">
          choices…
        </button>
      </Dialog.Trigger>
      <OverPage
        title={'Choices'}
        about={
          'How figures are shown to you, on every page. They are kept with your name; files that are taken away keep base units.'
        }
        width="40rem"
      >
        <div className="grid gap-x-6 gap-y-2.5 overflow-y-auto px-4 py-3 sm:grid-cols-[9rem_1fr]">
          <Line name="Bytes">
            <Choice
              label="Bytes"
              value={now.bytes || 'usual'}
              set={(v) => choose({ bytes: v === 'usual' ? '' : (v as 'binary' | 'decimal') })}
              all={{ usual: 'as each is sold', binary: 'by 1,024 (GiB)', decimal: 'by 1,000 (GB)' }}
            />
          </Line>
          <Line name="Network">
            <Choice
              label="Network"
              value={now.network || 'usual'}
              set={(v) => choose({ network: v === 'usual' ? '' : (v as 'bits' | 'bytes') })}
              all={{ usual: 'bits against lines', bits: 'bits', bytes: 'bytes' }}
            />
          </Line>
          <Line name="CPU time">
            <Choice
              label="CPU time"
              value={now.cpu || 'cores'}
              set={(v) => choose({ cpu: v === 'cores' ? '' : (v as 'percent') })}
              all={{
                cores: 'as cores',
                percent: 'as % of one CPU',
                host: 'of the host',
                limit: 'of the limit, or else the host',
              }}
            />
          </Line>
          <Line name="Decimals">
            <Choice
              label="Decimals"
              value={now.decimals === null ? 'usual' : `d${now.decimals}`}
              set={(v) => choose({ decimals: v === 'usual' ? null : Number(v.slice(1)) })}
              all={{ usual: 'what suits each', d0: '0', d1: '1', d2: '2', d3: '3', d4: '4' }}
            />
          </Line>
          <Line name="Time zone">
            <Zones zone={now.zone} choose={(zone) => choose({ zone })} />
          </Line>
          <Line name="Clock">
            <Choice
              label="Clock"
              value={`h${now.clock || '24'}`}
              set={(v) => choose({ clock: v === 'h24' ? '' : '12' })}
              all={{ h24: '14:20', h12: '02:20 pm' }}
            />
          </Line>
          <Line name="Look">
            <Choice
              label="Look"
              value={now.theme || 'system'}
              set={(v) => choose({ theme: v === 'system' ? '' : (v as 'light' | 'dark') })}
              all={{ system: 'as my system', light: 'light', dark: 'dark' }}
            />
          </Line>
          <Line name="Tables">
            <Choice
              label="Tables"
              value={now.density || 'airy'}
              set={(v) => choose({ density: v === 'airy' ? '' : 'dense' })}
              all={{ airy: 'airy', dense: 'dense' }}
            />
          </Line>
          <Line name="Over time">
            <Choice
              label="Over time"
              value={now.lines || 'stepped'}
              set={(v) => choose({ lines: v === 'stepped' ? '' : 'smooth' })}
              all={{ stepped: 'in steps, as it was counted', smooth: 'smooth' }}
            />
          </Line>
          <Line name="Live pace">
            <Choice
              label="Live pace"
              value={String(now.pace || usualPace)}
              set={(v) => choose({ pace: Number(v) === usualPace ? 0 : Number(v) })}
              all={Object.fromEntries(paces.map((p) => [String(p), p === 60 ? '1 min' : `${p} s`]))}
            />
          </Line>
          <Line name="First page">
            <select
              aria-label="First page"
              className={field}
              value={now.first}
              onChange={(e) => choose({ first: e.target.value })}
            >
              {Object.entries(firstPages).map(([to, name]) => (
                <option key={to} value={to}>
                  {name}
                </option>
              ))}
              {[...new Set([here, now.first])]
                .filter((to) => !(to in firstPages))
                .map((to) => (
                  <option key={to} value={to}>
                    {to === here ? `this page: ${to}` : to}
                  </option>
                ))}
            </select>
          </Line>
          <Line name="Tenants">
            <TenantColours now={now} choose={choose} />
          </Line>
          {set.error && (
            <div className="sm:col-span-2">
              <p role="alert" className="text-wine">
                This was not kept: {set.error.message}
              </p>
            </div>
          )}
        </div>
        <div className="flex gap-3 border-t border-rule-2 px-4 py-2.5">
          <button
            type="button"
            className="button"
            onClick={() => set.mutate({ ...usual, colours: {} })} // columns, widths and the strip are chosen elsewhere
          >
            As usual
          </button>
          <Dialog.Close asChild>
            <button type="button" className="button button-vine">
              Close
            </button>
          </Dialog.Close>
        </div>
      </OverPage>
    </Dialog.Root>
  )
}

function Line({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <span className="text-[13px] text-ink-2">{name}</span>
      <div>{children}</div>
    </>
  )
}

/** Colours of tenants that were chosen in place of the usual ones. The service takes only what is told apart. */
function TenantColours({ now, choose }: { now: Choices; choose: (change: Change) => void }) {
  const tenants = useTenants().data ?? []
  return (
    <ul className="grid gap-x-4 gap-y-1 text-[13px] sm:grid-cols-2">
      {tenants.map((t) => {
        const own = now.colours?.[t.name]
        return (
          <li key={t.name} className="flex items-center gap-2">
            <input
              key={own ?? 'usual'}
              type="color"
              aria-label={`Colour of ${t.name}`}
              className="h-6 w-8 cursor-pointer border border-rule-2"
              defaultValue={own ?? usualColour(t.colour)}
              onBlur={(e) => {
                const colour = e.target.value
                if (colour !== (own ?? usualColour(t.colour))) choose(withColour(t.name, colour))
              }}
            />
            <span className="min-w-0 truncate">{t.name}</span>
            {own && (
              <button
                type="button"
                className="link min-h-6"
                aria-label={`usual colour of ${t.name}`}
                onClick={() => choose(withColour(t.name))}
              >
                usual
              </button>
            )}
          </li>
        )
      })}
    </ul>
  )
}

/** The usual colour of a number in the look that is shown, as a field of a colour takes it. */
function usualColour(n: number): string {
  const style = getComputedStyle(document.documentElement)
  return style.getPropertyValue(n >= 1 && n <= 8 ? `--t${n}` : '--kernel').trim()
}

/** The time zone: the site's or that of the reader's own system, or one that is typed, by the names of the tz database. */
function Zones({ zone, choose }: { zone: string; choose: (zone: string) => void }) {
  const list = useId()
  return (
    <form
      className="flex flex-wrap gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        choose((new FormData(e.currentTarget).get('zone') as string).trim())
      }}
    >
      <input
        key={zone}
        name="zone"
        aria-label="Time zone"
        list={list}
        defaultValue={zone}
        placeholder={`${usualZone()} (${hasSiteZone() ? 'the site’s' : 'my system’s'})`}
        className={`${field} w-56`}
      />
      <datalist id={list}>
        {Intl.supportedValuesOf('timeZone').map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <button type="submit" className="button">
        Use it
      </button>
    </form>
  )
}
