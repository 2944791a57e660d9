import {
  columnFilteringFeature,
  createFilteredRowModel,
  createSortedRowModel,
  globalFilteringFeature,
  rowSortingFeature,
  tableFeatures,
  useTable,
  type SortingState,
} from '@tanstack/react-table'
import { memo, useMemo, useState, type ReactNode } from 'react'
import { useSetChoices } from '../api/queries'
import { choices } from '../choices/choices'
import { withColumns } from '../choices/lists'
import { ColumnChoice } from './ColumnChoice'
import { Sized } from './Sized'
import { Explained } from './Heads'
import { asCSV, inOrder, matches, save, type Value } from './listing'
import { Folding } from './Folding'

/** One column of a list. */
export interface Column<Row> {
  /** Its name in exports, with its unit. */
  id: string
  head: ReactNode
  /** What it is sorted, filtered and exported by: a figure in its base unit, or a text. */
  value: (row: Row) => Value
  /** How it is shown; the value itself where that is left out. */
  cell?: (row: Row) => ReactNode
  /** Figures stand at the right. */
  isFigure?: boolean
  /** It is what the row is about. */
  isHead?: boolean
  /** It is exported and found by, and not shown: another column shows it. */
  isHidden?: boolean
  /** It is a drawing: it is not exported, and orders nothing. */
  isDrawn?: boolean
  className?: string
}

const features = tableFeatures({
  rowSortingFeature,
  columnFilteringFeature,
  globalFilteringFeature,
  sortedRowModel: createSortedRowModel(),
  filteredRowModel: createFilteredRowModel(),
})

/** The way to other columns of a list, which are kept with whoever chose them. */
function ListColumns<Row>({
  keep,
  columns,
  chosen,
  usual,
  set,
}: {
  keep: string
  columns: Column<Row>[]
  chosen: string[]
  usual: string[]
  set: (ids: string[]) => void
}) {
  const keeping = useSetChoices()
  const head = (c: Column<Row>) => (typeof c.head === 'string' ? c.head : c.id.replaceAll('_', ' '))
  return (
    <ColumnChoice
      all={columns.map((c) => ({ id: c.id, head: head(c) }))}
      usual={usual}
      chosen={chosen}
      choose={(ids) => {
        set(ids)
        keeping.mutate(withColumns(keep, ids, ids.length === 0 || ids.join() === usual.join()))
      }}
    />
  )
}

/** From how many rows on a list can be searched. */
const searchedFrom = 6

/** A table that can be sorted by any column, searched by words, and taken away as it is seen. */
export function List<Row>({
  name,
  rows,
  columns,
  rowKey,
  below,
  acts,
  first,
  keep,
}: {
  /** Of the files it is taken away as. */
  name: string
  rows: Row[]
  columns: Column<Row>[]
  rowKey: (row: Row) => string
  /** What stands below a row, over its whole width. */
  below?: (row: Row) => ReactNode
  /** What can be done with a row. */
  acts?: (row: Row) => ReactNode
  /** How many rows are shown, in the order that was chosen; all are searched and taken away. */
  first?: number
  /** Under what name the columns that somebody chose are kept with them; none can be chosen where it is left out. */
  keep?: string
}) {
  const [chosen, setChosen] = useState(() => (keep ? choices().columns?.[keep] : undefined))
  const [sorting, setSorting] = useState<SortingState>([])
  const [words, setWords] = useState('')
  const defined = useMemo(
    () =>
      columns.map((c) => ({
        id: c.id,
        accessorFn: (row: unknown) => c.value(row as Row) ?? undefined,
        sortUndefined: 'last' as const,
        sortFn: (a: { original: unknown }, b: { original: unknown }) =>
          inOrder(c.value(a.original as Row), c.value(b.original as Row)),
        sortDescFirst: c.isFigure ?? false,
      })),
    [columns],
  )
  const table = useTable({
    features,
    columns: defined,
    data: rows as unknown as Record<string, unknown>[],
    state: { sorting, globalFilter: words },
    onSortingChange: setSorting,
    onGlobalFilterChange: setWords,
    globalFilterFn: (row: { original: unknown }, _: string, filter: string) =>
      matches(
        columns.map((c) => c.value(row.original as Row)),
        filter,
      ),
    getRowId: (row: unknown) => rowKey(row as Row),
  })
  const seen = table.getRowModel().rows.map((r) => ({ id: r.id, row: r.original as unknown as Row }))
  const take = (form: 'csv' | 'json') => {
    const told = columns.filter((c) => !c.isDrawn)
    const named = seen.map(({ row }) => told.map((c) => [c.id, c.value(row)] as const))
    const text =
      form === 'csv'
        ? asCSV(
            told.map((c) => c.id),
            named.map((r) => r.map(([, v]) => v)),
          )
        : `${JSON.stringify(
            named.map((r) => Object.fromEntries(r)),
            null,
            2,
          )}\n`
    save(`${name}.${form}`, form === 'csv' ? 'text/csv' : 'application/json', text)
  }
  const usual = useMemo(() => columns.filter((c) => !c.isHidden), [columns])
  const visible = useMemo(() => {
    const picked = chosen?.flatMap((id) => columns.find((c) => c.id === id) ?? [])
    return picked?.length ? picked : usual
  }, [chosen, columns, usual])
  const width = visible.length + (acts ? 1 : 0)
  return (
    <>
      {rows.length >= Math.max(searchedFrom, (first ?? 0) + 1) && (
        <div className="flex flex-wrap items-baseline gap-3 px-3.5 py-1.5 text-[12.5px] text-ink-2">
          <label>
            Find{' '}
            <input
              type="search"
              value={words}
              onChange={(e) => setWords(e.target.value)}
              className="ml-1 w-44 rounded-[3px] border border-rule-2 bg-paper px-1.5 text-ink"
            />
          </label>
          {words !== '' && (
            <span role="status">
              {seen.length.toLocaleString('en')} of {rows.length.toLocaleString('en')}
            </span>
          )}
        </div>
      )}
      <Folding>
        <thead>
          <tr>
            {visible.map((c) => {
              if (c.isDrawn)
                return (
                  <th key={c.id} scope="col">
                    {c.head}
                  </th>
                )
              const column = table.getColumn(c.id)!
              const sorted = column.getIsSorted()
              return (
                <th
                  key={c.id}
                  scope="col"
                  className={c.isFigure ? 'num' : undefined}
                  aria-sort={sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : undefined}
                >
                  <Sized keep={keep} column={c.id}>
                    <Explained by={[c.id, typeof c.head === 'string' ? c.head : '']}>
                      <button
                        type="button"
                        className="cursor-pointer font-[inherit] whitespace-nowrap hover:underline"
                        onClick={() => column.toggleSorting()}
                      >
                        {c.head}
                        <span aria-hidden>{sorted === 'asc' ? ' ↑' : sorted === 'desc' ? ' ↓' : ''}</span>
                      </button>
                    </Explained>
                  </Sized>
                </th>
              )
            })}
            {acts && (
              <th scope="col">
                <span className="sr-only">Acts</span>
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {seen.slice(0, first).map(({ id, row }) => (
            <Row key={id} row={row} columns={visible} below={below} acts={acts} />
          ))}
          {seen.length === 0 && rows.length > 0 && (
            <tr>
              <td colSpan={width} className="font-serif">
                Nothing in it has all of these words.
              </td>
            </tr>
          )}
        </tbody>
      </Folding>
      <p className="px-3.5 py-1 text-right text-[12.5px] text-ink-2">
        {keep && (
          <>
            <ListColumns
              keep={keep}
              columns={columns}
              chosen={visible.map((c) => c.id)}
              usual={usual.map((c) => c.id)}
              set={setChosen}
            />
            {' · '}
          </>
        )}
        {first !== undefined && seen.length > first && `the first ${first} of ${seen.length.toLocaleString('en')} · `}
        take it away as{' '}
        <button type="button" className="link" onClick={() => take('csv')}>
          CSV
        </button>{' '}
        or{' '}
        <button type="button" className="link" onClick={() => take('json')}>
          JSON
        </button>
      </p>
    </>
  )
}

type RowProps<R> = {
  row: R
  columns: Column<R>[]
  below?: (row: R) => ReactNode
  acts?: (row: R) => ReactNode
}

/** One row, which is not drawn again when only the order of the rows is another. */
const Row = memo(function Row<R>({ row, columns, below, acts }: RowProps<R>) {
  const more = below?.(row)
  return (
    <>
      <tr>
        {columns.map((c) => {
          const content = c.cell ? c.cell(row) : (c.value(row) ?? '–')
          const className = c.isFigure ? `num ${c.className ?? ''}` : c.className
          return c.isHead ? (
            <th key={c.id} scope="row" className={className}>
              {content}
            </th>
          ) : (
            <td key={c.id} className={className}>
              {content}
            </td>
          )
        })}
        {acts && <td className="whitespace-nowrap">{acts(row)}</td>}
      </tr>
      {more && (
        <tr>
          <td colSpan={columns.length + (acts ? 1 : 0)}>{more}</td>
        </tr>
      )}
    </>
  )
}) as <R>(props: RowProps<R>) => ReactNode
