import { memo, useState } from 'react'
import { Explained } from '../../figures/Heads'
import { Meaning } from '../../figures/BalanceBar'
import { meaningOf } from '../../figures/words'
import type { WorkloadLine } from '../../api/client'
import { useWorkloads, workloadsAtOnce } from '../../api/queries'
import { ActButton, useMayAct } from '../../figures/act/ActButton'
import { unitOf } from '../../figures/act/verbs'
import { asCSV, save } from '../../figures/listing'
import { Sized } from '../../figures/Sized'
import { ActsHead } from '../../figures/ShareTable'
import { Waiting } from '../../figures/Trouble'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { useTime } from '../../time/useTime'
import type { Column } from './columns'
import type { Narrowed } from './where'

/** Workloads, some at a time, in the order that the service has them in. */
export function WorkloadTable({
  narrowed,
  columns,
  sort,
  setSort,
  withKind,
}: {
  narrowed: Narrowed
  columns: Column[]
  sort: string
  setSort: (sort: string) => void
  withKind: boolean
}) {
  const { span, search } = useTime()
  const mayAct = useMayAct()
  const [first, setFirst] = useState(workloadsAtOnce)
  const workloads = useWorkloads(span, narrowed, sort, first)
  if (!workloads.data) return <Waiting error={workloads.error} what="The workloads" />
  const lines = workloads.data
  if (lines.length === 0) return <p className="p-3.5 font-serif">No workload of this kind ran in this span.</p>
  const takeAway = () =>
    save(
      'workloads.csv',
      'text/csv',
      asCSV(
        ['name', ...columns.map((c) => c.id)],
        lines.map((w) => [w.name, ...columns.map((c) => c.value(w))]),
      ),
    )
  return (
    <>
      <div className="overflow-x-auto">
        <table className="folds">
          <thead>
            <tr>
              <Head column="name" head="Workload" sort="name" by={sort} set={setSort} />
              {columns.map((c) => (
                <Head
                  key={c.id}
                  column={c.id}
                  head={c.head}
                  sort={c.sort}
                  by={sort}
                  set={setSort}
                  isFigure={c.isFigure}
                />
              ))}
              {mayAct && <ActsHead />}
            </tr>
          </thead>
          <tbody>
            {lines.map((w) => (
              <Row
                key={`${w.id} ${w.tenant}`}
                of={w}
                columns={columns}
                withKind={withKind}
                search={search}
                mayAct={mayAct}
              />
            ))}
          </tbody>
        </table>
      </div>
      <p className="flex flex-wrap items-baseline gap-3 px-3.5 py-2 text-[12.5px] text-ink-2">
        {lines.length === first && (
          <button
            type="button"
            className="cursor-pointer rounded-[3px] border border-rule-2 bg-paper px-3 py-1 text-ink"
            onClick={() => setFirst(first + workloadsAtOnce)}
          >
            Show more
          </button>
        )}
        <span>{lines.length.toLocaleString('en')} are shown.</span>
        <button type="button" className="link ml-auto" onClick={takeAway}>
          take away what is shown as CSV
        </button>
      </p>
    </>
  )
}

const Row = memo(function Row({
  of: w,
  columns,
  withKind,
  search,
  mayAct,
}: {
  of: WorkloadLine
  columns: Column[]
  withKind: boolean
  search: object
  mayAct: boolean
}) {
  return (
    <tr>
      <th scope="row">
        <WorkloadLink id={w.id} name={w.name} />{' '}
        {withKind && <span className="text-[12.5px] text-ink-2">{w.kind}</span>}
      </th>
      {columns.map((c) => (
        <td key={c.id} data-head={c.head} className={c.isFigure ? 'num' : ''}>
          {c.cell ? c.cell(w, search) : (c.value(w)?.toString() ?? '–')}
        </td>
      ))}
      {mayAct && (
        <td>
          {w.kind !== 'kernel' && w.state !== 'ended' && (
            <ActButton
              aim={{ form: 'workload', id: w.id, name: w.name, kind: w.kind, host: w.host }}
              beside={unitOf(w)}
            />
          )}
        </td>
      )}
    </tr>
  )
})

/** The head of a column, which sorts by it where the service can; its width is dragged. */
function Head({
  column,
  head,
  sort,
  by,
  set,
  isFigure,
}: {
  column: string
  head: string
  sort?: string
  by: string
  set: (sort: string) => void
  isFigure?: boolean
}) {
  const meaning = meaningOf(head)
  const isUp = by === sort
  const isDown = by === `-${sort}`
  // The service lists amounts with the most first, and names by the alphabet.
  const order = isUp ? (sort === 'amount' ? 'descending' : 'ascending') : sort === 'amount' ? 'ascending' : 'descending'
  return (
    <th scope="col" className={isFigure ? 'num' : ''} aria-sort={sort && (isUp || isDown) ? order : undefined}>
      <Sized keep="workloads" column={column}>
        {sort ? (
          <Explained by={[head]}>
            <button
              type="button"
              className="cursor-pointer font-semibold hover:underline"
              onClick={() => set(isUp ? `-${sort}` : sort)}
            >
              {head}
              {(isUp || isDown) && <span aria-hidden> {order === 'ascending' ? '↑' : '↓'}</span>}
            </button>
          </Explained>
        ) : meaning ? (
          <Meaning meaning={meaning}>{head}</Meaning>
        ) : (
          head
        )}
      </Sized>
    </th>
  )
}
