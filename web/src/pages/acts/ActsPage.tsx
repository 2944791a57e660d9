import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { useState } from 'react'
import { answer, api, type Act } from '../../api/client'
import { ActDialog } from '../../figures/act/ActDialog'
import { useMayAct } from '../../figures/act/ActButton'
import { Preview, Result } from '../../figures/act/Preview'
import { isUnderWay, isWell, verbWords } from '../../figures/act/verbs'
import { List, type Column } from '../../figures/List'
import { shown } from '../../figures/Name'
import { moment } from '../../figures/text'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'
import { StandingSheet } from './StandingSheet'

const mostTold = 500

/** What was asked to be done on hosts, by whom, and what came of it. */
export function ActsPage() {
  const acts = useQuery({
    queryKey: ['acts'],
    queryFn: () => answer(api.GET('/api/v1/acts', { params: { query: { first: mostTold } } })),
    // What is on its way changes by itself.
    refetchInterval: (q) => (q.state.data?.some(isUnderWay) ? 1000 : 10_000),
  })
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-3.5">
        <h1>Acts</h1>
        {acts.data && (
          <span className="text-ink-2">
            {acts.data.length < mostTold ? 'all that is on record' : `the newest ${mostTold}`}, the newest first
          </span>
        )}
      </div>
      <section className="sheet overflow-x-auto" aria-label="What was done">
        {acts.data ? (
          acts.data.length > 0 ? (
            <ActList acts={acts.data} />
          ) : (
            <p className="p-3.5 font-serif">
              Nothing was asked to be done yet. A workload’s page, and each of its processes, has the acts on it.
            </p>
          )
        ) : (
          <Waiting error={acts.error} what="What was done" />
        )}
      </section>
      <StandingSheet />
    </>
  )
}

function ActList({ acts }: { acts: Act[] }) {
  const { search } = useTime()
  const mayAct = useMayAct()
  const [open, setOpen] = useState<string | null>(null)
  const [undoing, setUndoing] = useState<Act | null>(null)
  const columns: Column<Act>[] = [
    {
      id: 'asked_at',
      head: 'When',
      value: (a) => a.asked_at,
      cell: (a) => moment(a.asked_at),
      className: 'whitespace-nowrap',
    },
    { id: 'who', head: 'Who', value: (a) => a.who, cell: (a) => shown(a.who) },
    { id: 'verb', head: 'Did', value: (a) => a.verb, cell: (a) => verbWords(a.verb) },
    {
      id: 'target',
      head: 'To',
      value: (a) => a.preview?.target ?? targetWords(a),
      cell: (a) => shown(a.preview?.target ?? targetWords(a)),
      isHead: true,
    },
    {
      id: 'host',
      head: 'On',
      value: (a) => a.host,
      cell: (a) => (
        <Link to="/hosts/$host" params={{ host: a.host }} search={search} className="whitespace-nowrap">
          {shown(a.host)}
        </Link>
      ),
    },
    {
      id: 'state',
      head: 'State',
      value: (a) => (a.undone_by ? `${a.state}, undone` : a.state),
      cell: (a) => <span className={isWell(a) ? '' : 'text-wine'}>{a.undone_by ? `${a.state}, undone` : a.state}</span>,
    },
    { id: 'detail', head: 'What came of it', value: (a) => a.detail, cell: (a) => shown(a.detail) },
    { id: 'reason', head: 'Why', value: (a) => a.reason, cell: (a) => shown(a.reason) },
    { id: 'id', head: 'Number', value: (a) => a.id, isHidden: true },
    { id: 'origin', head: 'From', value: (a) => a.origin, isHidden: true },
  ]
  return (
    <>
      <List
        keep="acts"
        name="acts"
        rows={acts}
        columns={columns}
        rowKey={(a) => a.id}
        acts={(a) => (
          <span className="flex gap-3">
            <button
              type="button"
              className="link"
              aria-expanded={open === a.id}
              aria-label={`${open === a.id ? 'less' : 'more'} of act ${a.id}`}
              onClick={() => setOpen(open === a.id ? null : a.id)}
            >
              {open === a.id ? 'less' : 'more'}
            </button>
            {mayAct && a.can_undo && (
              <button type="button" className="link" aria-label={`undo act ${a.id}`} onClick={() => setUndoing(a)}>
                undo
              </button>
            )}
          </span>
        )}
        below={(a) =>
          open === a.id ? (
            <div className="grid gap-4 py-1">
              <p className="text-[12.5px] text-ink-2">
                Act <span className="font-mono">{a.id}</span>, asked by {shown(a.who)} from {a.origin || 'here'}
                {a.confirmed_by && `, confirmed by ${a.confirmed_by}`}
              </p>
              <Preview of={a.preview ? { ...a, state: 'previewed' } : a} />
              {a.outcome && <Result of={a} />}
            </div>
          ) : null
        }
      />
      {undoing && (
        <ActDialog
          aim={{ form: 'act', act: undoing.id, name: undoing.preview?.target ?? undoing.id, host: undoing.host }}
          verb="undo"
          onClose={() => setUndoing(null)}
          onDone={() => undefined}
        />
      )}
    </>
  )
}

/** A target in words, where its host has not described it. */
function targetWords(a: Act): string {
  const t = a.target
  return [t.form, t.pid || '', t.program ?? '', t.user ?? '', t.key ?? '', t.unit ?? '', t.job ?? '', t.act ?? '']
    .filter((x) => x !== '' && x !== 0)
    .join(' ')
}
