import { readField } from '../../time/zone'
import { useState } from 'react'
import { answer, api, type DeclaredPin, type PinToDeclare } from '../../api/client'
import { useDeclaredPins, usePins, useTenants } from '../../api/queries'
import { Ending, Outcome, useUndoable } from '../../figures/Acts'
import { List } from '../../figures/List'
import { shown } from '../../figures/Name'
import { PinList } from '../../figures/PinList'
import { moment } from '../../figures/text'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'

/** Whose CPUs of a host are: verdicts, declaring and ending, undoing that, and the history. */
export function PinSheet({ host }: { host: string }) {
  const { span } = useTime()
  const pins = usePins(span, host)
  const history = useDeclaredPins(host)
  const [isDeclaring, setDeclaring] = useState(false)
  const [isHistory, setHistory] = useState(false)
  const [ending, setEnding] = useState<number | null>(null)

  const end = (id: number, reason: string) =>
    answer(api.DELETE('/api/v1/pins/{id}', { params: { path: { id }, query: { reason } } }))
  const declare = (body: PinToDeclare) => answer(api.PUT('/api/v1/pins', { body }))
  const again = (p: DeclaredPin, reason: string): PinToDeclare => ({
    host,
    cpus: p.cpus,
    holder: p.holder,
    holder_kind: p.holder_kind,
    shared: !p.exclusive,
    reason,
  })

  const act = useUndoable(() => {
    setDeclaring(false)
    setEnding(null)
  })
  const onDeclare = (body: PinToDeclare) =>
    act.run(async () => {
      const before = history.data?.find(
        (p) => p.holder === body.holder && p.holder_kind === body.holder_kind && p.until === null,
      )
      const made = await declare(body)
      return {
        words: `CPUs ${made.cpus} are declared for ${made.holder} from ${moment(made.from)} on.`,
        undo: () => (before ? declare(again(before, 'undone')) : end(made.id, 'undone')),
      }
    })
  const onEnd = (id: number, reason: string) =>
    act.run(async () => {
      const ended = await end(id, reason)
      return {
        words: `CPUs ${ended.cpus} are no longer declared for ${ended.holder}.`,
        undo: () => declare(again(ended, 'undone')),
      }
    })

  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="pins-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="pins-title">Declared CPUs</h2>
        <span className="text-[12.5px] text-ink-2">whose CPUs are, and whether that was kept in the span</span>
        <button type="button" className="link ml-auto" onClick={() => setDeclaring(!isDeclaring)}>
          declare
        </button>
        <button type="button" className="link" aria-expanded={isHistory} onClick={() => setHistory(!isHistory)}>
          history
        </button>
      </div>
      {isDeclaring && <Declaring host={host} busy={act.busy} onDeclare={onDeclare} />}
      <Outcome of={act} />
      {!pins.data && <Waiting error={pins.error} what="What is declared" />}
      {pins.data?.length === 0 && <p className="p-3.5 font-serif">No CPUs of this host were declared in this span.</p>}
      {pins.data && pins.data.length > 0 && (
        <PinList
          pins={pins.data}
          act={(p) =>
            ending === p.id ? (
              <Ending onEnd={(reason) => onEnd(p.id, reason)} onLeave={() => setEnding(null)} busy={act.busy} />
            ) : (
              <button type="button" className="link" aria-label={`End ${p.holder}`} onClick={() => setEnding(p.id)}>
                end
              </button>
            )
          }
        />
      )}
      {isHistory && <History all={history.data ?? []} />}
    </section>
  )
}

const field = 'rounded-xs border border-rule-2 bg-sheet px-2 py-1'

const kinds = { tenant: 'tenant', workload: 'workload', rule: 'rule' } as const

function Declaring({
  host,
  busy,
  onDeclare,
}: {
  host: string
  busy: boolean
  onDeclare: (body: PinToDeclare) => void
}) {
  const tenants = useTenants()
  const [cpus, setCPUs] = useState('')
  const [kind, setKind] = useState<keyof typeof kinds>('tenant')
  const [holder, setHolder] = useState('')
  const [isShared, setShared] = useState(false)
  const [from, setFrom] = useState('')
  const [until, setUntil] = useState('')
  const [reason, setReason] = useState('')
  return (
    <form
      className="flex flex-wrap items-end gap-3 border-b border-rule-2 px-3.5 py-3"
      aria-label="Declare CPUs"
      onSubmit={(e) => {
        e.preventDefault()
        onDeclare({
          host,
          cpus,
          holder,
          holder_kind: kind,
          shared: isShared,
          reason,
          from: readField(from),
          until: readField(until),
        })
      }}
    >
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">CPUs</span>
        <input className={field} required placeholder="0-3,8" value={cpus} onChange={(e) => setCPUs(e.target.value)} />
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">Holder is a</span>
        <select
          className={field}
          value={kind}
          onChange={(e) => {
            setKind(e.target.value as keyof typeof kinds)
            setHolder('')
          }}
        >
          {Object.keys(kinds).map((k) => (
            <option key={k}>{k}</option>
          ))}
        </select>
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">Declared for</span>
        {kind === 'tenant' ? (
          <select className={field} required value={holder} onChange={(e) => setHolder(e.target.value)}>
            <option value="">choose …</option>
            {tenants.data?.map((t) => (
              <option key={t.name}>{t.name}</option>
            ))}
          </select>
        ) : (
          <input
            className={field}
            required
            placeholder={kind === 'rule' ? "labels.site == 'north'" : 'its name on this host'}
            value={holder}
            onChange={(e) => setHolder(e.target.value)}
          />
        )}
      </label>
      <label className="flex items-baseline gap-1.5 pb-1">
        <input type="checkbox" checked={isShared} onChange={(e) => setShared(e.target.checked)} />
        others may run there too
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">From (now)</span>
        <input className={field} type="datetime-local" value={from} onChange={(e) => setFrom(e.target.value)} />
      </label>
      <label className="grid">
        <span className="text-[12.5px] text-ink-2">Until (no end)</span>
        <input className={field} type="datetime-local" value={until} onChange={(e) => setUntil(e.target.value)} />
      </label>
      <label className="grid grow">
        <span className="text-[12.5px] text-ink-2">Reason</span>
        <input className={field} value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      <button type="submit" className="rounded-xs bg-vine px-3 py-1 text-sheet" disabled={busy}>
        Declare
      </button>
      <p className="w-full text-[12.5px] text-ink-2">
        This records whose the CPUs are, and moves nobody. What is declared for the same holder ends where this begins.
      </p>
    </form>
  )
}

function History({ all }: { all: DeclaredPin[] }) {
  return (
    <List
      keep="declared-pins"
      name="declared-cpus-history"
      rows={[...all].reverse()}
      rowKey={(p) => String(p.id)}
      columns={[
        {
          id: 'cpus',
          head: 'CPUs',
          value: (p) => p.cpus,
          cell: (p) => (
            <>
              {p.cpus}
              {!p.exclusive && <span className="text-ink-2"> shared</span>}
            </>
          ),
        },
        { id: 'alone', head: 'Alone', value: (p) => p.exclusive, isHidden: true },
        { id: 'holder', head: 'Declared for', value: (p) => p.holder, cell: (p) => shown(p.holder) },
        { id: 'from', head: 'From', value: (p) => p.from, cell: (p) => moment(p.from) },
        {
          id: 'until',
          head: 'Until',
          value: (p) => p.until,
          cell: (p) => (p.until === null ? '–' : p.until === p.from ? 'taken back' : moment(p.until)),
        },
        { id: 'made_by', head: 'By', value: (p) => p.made_by },
        { id: 'reason', head: 'Reason', value: (p) => p.reason, cell: (p) => shown(p.reason) },
        {
          id: 'ended_by',
          head: 'Ended by',
          value: (p) => (p.end_reason ? `${p.ended_by}: ${p.end_reason}` : p.ended_by),
          cell: (p) => (
            <>
              {p.ended_by}
              {p.end_reason && `: ${shown(p.end_reason)}`}
            </>
          ),
        },
      ]}
    />
  )
}
