import { useNavigate, useParams, useSearch } from '@tanstack/react-router'
import { useMemo, useState } from 'react'
import type { Folio, KeptFolio } from '../../api/client'
import { useAddFolio, useAllHosts, useFolio, useMatters, useRemoveFolio, useTenants } from '../../api/queries'
import { draftOf } from '../../folio/draft'
import { heights, PlateSheet } from '../../folio/PlateSheet'
import type { Chosen } from '../../folio/plate'
import { save } from '../../figures/listing'
import { shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'
import { Composer } from './Composer'
import { Rows } from './Rows'
import type { FolioSearch } from './search'

/** A page that somebody composed. */
export function FolioPage() {
  const { folio: name } = useParams({ strict: false }) as { folio: string }
  const kept = useFolio(name)
  const matters = useMatters()
  if (!kept.data) return <Waiting error={kept.error} what="The folio" />
  if (!matters.data) return <Waiting error={matters.error} what="What plates may show" />
  return <Page key={name} kept={kept.data} />
}

function Page({ kept }: { kept: KeptFolio }) {
  const search = useSearch({ strict: false }) as FolioSearch
  const navigate = useNavigate()
  const set = (part: FolioSearch) =>
    void navigate({ to: '.', search: ((was: FolioSearch) => ({ ...was, ...part })) as never, replace: true })
  const chosen = useChosen(kept.folio, search)
  const choosers = <Choosers folio={kept.folio} chosen={chosen} set={set} />
  if (search.compose && kept.can_change)
    return <Composer kept={kept} chosen={chosen} choosers={choosers} leave={() => set({ compose: undefined })} />
  return <Looked kept={kept} chosen={chosen} choosers={choosers} compose={() => set({ compose: true })} />
}

/** Whether a folio leaves it to its page of which host or tenant it is. */
function asks(f: Folio, kind: 'host' | 'tenant'): boolean {
  return f.rows.some((r) => r.plates.some((p) => p.subject.kind === kind && !p.subject.name))
}

/** Whom the page is of: as its address says, or the first there is. */
function useChosen(folio: Folio, search: FolioSearch): Chosen {
  const hosts = useAllHosts().data
  const tenants = useTenants().data
  return {
    host: asks(folio, 'host') ? (search.host ?? hosts?.[0]?.name) : undefined,
    tenant: asks(folio, 'tenant') ? (search.tenant ?? tenants?.[0]?.name) : undefined,
  }
}

function Choosers({ folio, chosen, set }: { folio: Folio; chosen: Chosen; set: (s: FolioSearch) => void }) {
  const hosts = useAllHosts().data ?? []
  const tenants = useTenants().data ?? []
  const one = (kind: 'host' | 'tenant', names: string[]) =>
    asks(folio, kind) && (
      <label className="text-[13px] text-ink-2">
        {kind === 'host' ? 'Host' : 'Tenant'}{' '}
        <select
          value={chosen[kind] ?? ''}
          onChange={(e) => set({ [kind]: e.target.value })}
          className="ml-1 rounded-[3px] border border-rule-2 bg-sheet px-2 py-0.5 text-ink"
        >
          {chosen[kind] && !names.includes(chosen[kind]) && <option>{chosen[kind]}</option>}
          {names.map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
    )
  return (
    <>
      {one(
        'host',
        hosts.map((h) => h.name),
      )}
      {one(
        'tenant',
        tenants.map((t) => t.name),
      )}
    </>
  )
}

const whoseText: Record<KeptFolio['whose'], string> = {
  shipped: 'comes with the program',
  shared: 'shared with the site',
  own: 'your own',
}

/** The folio as it is looked at. */
function Looked({
  kept,
  chosen,
  choosers,
  compose,
}: {
  kept: KeptFolio
  chosen: Chosen
  choosers: React.ReactNode
  compose: () => void
}) {
  const matters = useMatters().data!
  const { span, search } = useTime()
  const navigate = useNavigate()
  const add = useAddFolio()
  const remove = useRemoveFolio()
  const [isSure, setSure] = useState(false)
  const copy = () =>
    add.mutate(
      { folio: { ...kept.folio, title: `${kept.folio.title}, copy`.slice(0, 120) }, shared: false },
      {
        onSuccess: (k) =>
          void navigate({
            to: '/folios/$folio',
            params: { folio: k.name },
            search: { ...search, ...chosen, compose: true as const },
          }),
      },
    )
  const error = add.error ?? remove.error
  const rows = useMemo(() => draftOf(kept.folio).rows, [kept.folio])
  return (
    <>
      <div className="mb-1.5 flex flex-wrap items-baseline gap-3.5">
        <h1>{shown(kept.title)}</h1>
        <span className="text-ink-2">{whoseText[kept.whose]}</span>
        {choosers}
        <span className="ml-auto flex flex-wrap gap-2 text-[13px]">
          {kept.can_change && (
            <button type="button" className="button button-vine" onClick={compose}>
              Compose
            </button>
          )}
          <button type="button" className="button" onClick={copy} disabled={add.isPending}>
            Copy
          </button>
          <button
            type="button"
            className="button"
            onClick={() => save(`${kept.name}.json`, 'application/json', `${JSON.stringify(kept.folio, null, 2)}\n`)}
          >
            Take it away
          </button>
          {kept.can_change && (
            <button
              type="button"
              className="button button-wine"
              onBlur={() => setSure(false)}
              onClick={() =>
                isSure
                  ? remove.mutate(kept.name, { onSuccess: () => void navigate({ to: '/folios', search }) })
                  : setSure(true)
              }
            >
              {isSure ? 'Remove it for good' : 'Remove'}
            </button>
          )}
        </span>
      </div>
      {kept.about && <p className="mb-3 font-serif text-[15px]">{shown(kept.about)}</p>}
      {error && (
        <p role="alert" className="mb-3 text-wine">
          {error.message}
        </p>
      )}
      {kept.folio.rows.length === 0 && <p className="font-serif">It has no plates yet.</p>}
      <Rows
        rows={rows}
        plate={(p, row) => (
          <PlateSheet
            plate={p}
            matter={matters.find((m) => m.name === p.of)}
            chosen={chosen}
            span={span}
            high={heights[row.height]}
          />
        )}
      />
    </>
  )
}
