import { Link, useNavigate } from '@tanstack/react-router'
import { useId, useState } from 'react'
import type { Folio, FolioLine } from '../../api/client'
import { useAddFolio, useFolios } from '../../api/queries'
import { shown } from '../../figures/Name'
import { moment } from '../../figures/text'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'

const groups: [whose: FolioLine['whose'], head: string][] = [
  ['own', 'Your own'],
  ['shared', 'Shared with the site'],
  ['shipped', 'To begin with'],
]

/** All folios that whoever is signed in may see, and the ways to a new one. */
export function FoliosPage() {
  const folios = useFolios()
  return (
    <>
      <h1 className="mb-1.5">Folios</h1>
      <p className="mb-4 max-w-160 font-serif text-[15px]">
        A folio is a page of your own: plates of the figures you watch, as you want them drawn. Its address is a link.
      </p>
      <New />
      {!folios.data && <Waiting error={folios.error} what="The folios" />}
      {groups.map(([whose, head]) => {
        const rows = folios.data?.filter((f) => f.whose === whose) ?? []
        return rows.length === 0 ? null : <Rows key={whose} head={head} rows={rows} />
      })}
    </>
  )
}

function Rows({ head, rows }: { head: string; rows: FolioLine[] }) {
  const id = useId()
  const { search } = useTime()
  return (
    <section className="sheet mb-4.5" aria-labelledby={id}>
      <div className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id={id}>{head}</h2>
      </div>
      <ul className="divide-y divide-rule">
        {rows.map((f) => (
          <li key={f.name} className="flex flex-wrap items-baseline gap-x-3 px-3.5 py-2">
            <Link to="/folios/$folio" params={{ folio: f.name }} search={search} className="font-semibold">
              {shown(f.title)}
            </Link>
            <span className="text-ink-2">{shown(f.about)}</span>
            <span className="ml-auto text-[12.5px] text-ink-2">
              {f.plates === 1 ? 'one plate' : `${f.plates} plates`}
              {f.changed_at && ` · ${f.changed_by}, ${moment(f.changed_at)}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Beginning a folio by its title, or from a file. */
function New() {
  const add = useAddFolio()
  const navigate = useNavigate()
  const { search } = useTime()
  const [wrong, setWrong] = useState('')
  const keep = (folio: Folio, compose: boolean) =>
    add.mutate(
      { folio, shared: false },
      {
        onSuccess: (kept) =>
          void navigate({
            to: '/folios/$folio',
            params: { folio: kept.name },
            search: { ...search, ...(compose && { compose: true as const }) },
          }),
      },
    )
  const bringIn = async (file: File | undefined) => {
    setWrong('')
    if (!file) return
    try {
      keep(JSON.parse(await file.text()) as Folio, false)
    } catch {
      setWrong(`${file.name} is no JSON: give a file that “take it away” of a folio wrote.`)
    }
  }
  return (
    <div className="mb-4.5 flex flex-wrap items-baseline gap-x-5 gap-y-2">
      <form
        className="flex flex-wrap gap-2"
        onSubmit={(e) => {
          e.preventDefault()
          const title = (new FormData(e.currentTarget).get('title') as string).trim()
          if (title) keep({ format: 1, title, rows: [] }, true)
        }}
      >
        <input
          name="title"
          required
          maxLength={120}
          aria-label="Title of the new folio"
          placeholder="Title, such as Press night"
          className="w-64 rounded-[3px] border border-rule-2 bg-sheet px-2 py-0.5"
        />
        <button type="submit" className="button button-vine" disabled={add.isPending}>
          Compose a folio
        </button>
      </form>
      <label className="text-[13px]">
        or bring in a file{' '}
        <input
          type="file"
          accept=".json,application/json"
          className="ml-1 text-[12.5px] text-ink-2 file:mr-2 file:cursor-pointer file:rounded-[3px] file:border file:border-solid file:border-rule-2 file:bg-paper file:px-2.5 file:text-ink"
          onChange={(e) => void bringIn(e.target.files?.[0])}
        />
      </label>
      {(wrong || add.error) && (
        <p role="alert" className="w-full text-wine">
          {wrong || `It was not kept: ${add.error!.message}`}
        </p>
      )}
    </div>
  )
}
