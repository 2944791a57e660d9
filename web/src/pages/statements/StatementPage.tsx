import { useState } from 'react'
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router'
import type { GrownStatement } from '../../api/client'
import { useStatement } from '../../api/queries'
import { asCSV, save } from '../../figures/listing'
import { said } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { moment } from '../../figures/text'
import { title } from '../../figures/units'
import type { StatementSearch } from './StatementsPage'
import { Besides } from './Besides'
import { Table } from './Table'
import { WindowChoice } from './WindowChoice'
import {
  daysOf,
  decimal,
  dimensions,
  grouped,
  lineWords,
  money,
  splitWords,
  unitWords,
  whose,
  type Dimension,
} from './words'

/** How many lines a page shows; files have all. */
const linesShown = 1000

/** A tenant's statement, as it is printed. */
export function StatementPage() {
  const { tenant } = useParams({ strict: false }) as { tenant: string }
  const { window = 'this' } = useSearch({ strict: false }) as StatementSearch
  const navigate = useNavigate()
  const statement = useStatement(tenant, window)
  return (
    <>
      <p className="mb-2 print:hidden">
        <Link to="/statements" search={{ window: window === 'this' ? undefined : window }}>
          All statements
        </Link>
      </p>
      <WindowChoice
        key={window}
        window={window}
        onChoose={(w) => void navigate({ to: '/statements/$tenant', params: { tenant }, search: { window: w } })}
      />
      {statement.data ? <Document s={statement.data} /> : <Waiting error={statement.error} what="The statement" />}
    </>
  )
}

function Document({ s }: { s: GrownStatement }) {
  const name = `statement-${s.tenant.toLowerCase().replaceAll(' ', '-')}-${s.window}`
  const before = (resource: string) => s.growth.find((g) => g.resource === resource && Number(g.before) !== 0)
  const hasPrice = s.currency !== ''
  return (
    <article className="statement sheet px-6 py-5" aria-labelledby="statement-title">
      <header className="mb-4 flex flex-wrap print:flex-nowrap items-baseline gap-x-6 gap-y-1 border-b border-rule-2 pb-3">
        <div>
          <h1 id="statement-title">{whose(s.tenant)}</h1>
          <p className="mt-1 font-serif text-[15px]">
            Statement for {s.window}: {daysOf(s)} ({s.zone})
          </p>
        </div>
        <div className="ml-auto text-right">
          {hasPrice && <p className="font-serif text-[22px]">{money(s.cost, s.currency)}</p>}
          <p className="text-[12.5px] text-ink-2">
            {s.closed_at
              ? `Number ${s.number}, closed ${moment(s.closed_at)} by ${s.closed_by}`
              : 'Draft: not closed yet'}
          </p>
        </div>
      </header>
      <p className="mb-3 flex gap-3 print:hidden">
        <button type="button" className="button" onClick={() => window.print()}>
          Print, or save as PDF
        </button>
        <button type="button" className="button" onClick={() => save(`${name}.csv`, 'text/csv', linesCSV(s))}>
          Lines as CSV
        </button>
        <button
          type="button"
          className="button"
          onClick={() => save(`${name}.json`, 'application/json', JSON.stringify(s, null, 2))}
        >
          JSON
        </button>
      </p>
      <Table
        name="Amounts"
        heads={['Resource', 'Used', 'Borne', 'Corrected', 'Unit', 'Window before', ...(hasPrice ? [s.currency] : [])]}
        figures={[1, 2, 3, 5, 6]}
        rows={s.totals.map((t) => [
          title(t.resource),
          decimal(t.used),
          decimal(t.borne),
          decimal(t.corrected),
          unitWords(t.unit),
          before(t.resource) ? decimal(before(t.resource)!.before) : '–',
          ...(hasPrice ? [decimal(t.cost)] : []),
        ])}
      />
      <p className="mt-1.5 font-serif text-[13.5px] text-ink-2">
        {s.tenant !== 'shared' && <>Borne: its part of what is shared. {splitWords(s.split, s.keep_idle)} </>}
        {s.totals
          .filter((t) => t.missing > 0)
          .map((t) => `${t.missing} workloads lack a figure of ${title(t.resource)}: what they used is not in it. `)}
        {s.coverage.map((c) => `${c.host} told of ${c.told_hours.toFixed(1)} of ${c.of_hours.toFixed(1)} hours. `)}
      </p>
      <Besides s={s} />
      <Lines s={s} />
      {s.hash && (
        <p className="mt-4 border-t border-rule pt-2 text-[12px] break-all text-ink-2">
          SHA-256 over all lines{s.follows && ` and statement ${s.number - 1}`}: <code>{s.hash}</code>
        </p>
      )}
    </article>
  )
}

/** The lines one by one, or added up by what they have alike. */
function Lines({ s }: { s: GrownStatement }) {
  const [by, setBy] = useState<Dimension | ''>('')
  const hasPrice = s.currency !== ''
  const rows = s.lines.slice(0, linesShown)
  return (
    <>
      <div className="mt-5 mb-1 flex items-baseline gap-3">
        <h2>Lines</h2>
        <label className="flex items-baseline gap-1.5 print:hidden">
          <span className="text-ink-2">added up by</span>
          <select
            className="rounded-[3px] border border-rule-2 bg-paper px-1.5 py-0.5"
            value={by}
            onChange={(e) => setBy(e.target.value as Dimension | '')}
          >
            <option value="">nothing: each line</option>
            {Object.entries(dimensions)
              .filter(([name]) => name !== 'label' || s.label_key !== '')
              .map(([name, head]) => (
                <option key={name} value={name}>
                  {name === 'label' ? s.label_key : head.toLowerCase()}
                </option>
              ))}
          </select>
        </label>
      </div>
      {by ? (
        <Table
          name="Lines, added up"
          heads={[
            'Resource',
            by === 'label' ? s.label_key : dimensions[by],
            'Amount',
            'Unit',
            ...(hasPrice ? [s.currency] : []),
          ]}
          figures={[2, 4]}
          rows={grouped(s.lines, by).map((g) => [
            title(g.resource),
            g.value || '–',
            decimal(String(g.quantity)),
            unitWords(g.unit),
            ...(hasPrice ? [decimal(String(g.cost))] : []),
          ])}
        />
      ) : (
        <>
          <Table
            name="Lines"
            heads={[
              'Resource',
              'What',
              'Host',
              'Kind',
              'Owner',
              ...(s.label_key ? [s.label_key] : []),
              'Amount',
              'Unit',
              ...(hasPrice ? ['Price', s.currency] : []),
            ]}
            figures={s.label_key ? [6, 8, 9] : [5, 7, 8]}
            rows={rows.map((l) => [
              title(l.resource),
              <>
                {lineWords(l)}
                {l.corrects > 0 && <span className="text-ink-2"> of {l.corrects}</span>}
                {l.reason && <span className="block text-[12px] text-ink-2">{said(l.reason)}</span>}
              </>,
              l.host,
              l.kind,
              l.owner,
              ...(s.label_key ? [l.label] : []),
              decimal(l.quantity),
              unitWords(l.unit),
              ...(hasPrice ? [l.price ?? '–', decimal(l.cost)] : []),
            ])}
          />
          {s.lines.length > linesShown && (
            <p className="mt-1.5 text-ink-2">and {s.lines.length - linesShown} more: the files have all.</p>
          )}
        </>
      )}
    </>
  )
}

/** The lines as a file: exact, in base units. */
function linesCSV(s: GrownStatement): string {
  const fields = [
    'from',
    'to',
    'what',
    'resource',
    'host',
    'pools',
    'kind',
    'owner',
    'label',
    'units',
    'quantity',
  ] as const
  const more = ['unit', 'price', 'cost', 'missing', 'corrects', 'reason'] as const
  const all = [...fields, ...more]
  return asCSV(
    ['number', 'tenant', 'window', 'currency', ...all],
    s.lines.map((l) => [s.number, s.tenant, s.window, s.currency, ...all.map((f) => l[f])]),
  )
}
