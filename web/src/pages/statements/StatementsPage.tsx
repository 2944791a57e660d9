import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { useState } from 'react'
import { answer, api, type Account } from '../../api/client'
import { useAccount, useIdentity, useStatements, useTariff } from '../../api/queries'
import { List, type Column } from '../../figures/List'
import { Waiting } from '../../figures/Trouble'
import { moment } from '../../figures/text'
import { TariffSheet } from './TariffSheet'
import { WindowChoice } from './WindowChoice'
import { daysOf, decimal, resourcesOf, unitWords, whose } from './words'

export type StatementSearch = { window?: string }

/** Keeps of an address which window is shown. */
export function readWindow(search: Record<string, unknown>): StatementSearch {
  const { window } = search
  const text = typeof window === 'number' ? String(window) : window
  return { window: typeof text === 'string' && text !== '' && text !== 'this' ? text : undefined }
}

/** What a calendar window comes to, of everybody; and the statements that were closed. */
export function StatementsPage() {
  const { window = 'this' } = useSearch({ strict: false }) as StatementSearch
  const navigate = useNavigate()
  const account = useAccount(window)
  const tariff = useTariff()
  return (
    <>
      <h1 className="mb-1.5">Statements</h1>
      <WindowChoice
        key={window}
        window={window}
        onChoose={(w) => void navigate({ to: '/statements', search: { window: w } })}
      />
      {account.data ? <AccountSheet account={account.data} /> : <Waiting error={account.error} what="The account" />}
      {tariff.data && <TariffSheet tariff={tariff.data} />}
      <ClosedSheet />
    </>
  )
}

function AccountSheet({ account }: { account: Account }) {
  const all = account.statements
  const first = all[0]!
  const resources = resourcesOf(all)
  const isClosed = first.closed_at !== null
  const columns: Column<Account['statements'][number]>[] = [
    {
      id: 'tenant',
      head: 'Statement of',
      isHead: true,
      value: (s) => whose(s.tenant),
      cell: (s) => (
        <Link to="/statements/$tenant" params={{ tenant: s.tenant }} search={{ window: account.window }}>
          {whose(s.tenant)}
        </Link>
      ),
    },
    ...resources.map(({ resource, unit, name }): Column<Account['statements'][number]> => {
      const of = (s: Account['statements'][number]) => {
        const t = s.totals.find((t) => t.resource === resource)
        return t ? Number(t.used) + Number(t.borne) + Number(t.corrected) : null
      }
      return {
        id: `${resource}_${unit}`,
        head: `${name}, ${unitWords(unit)}`,
        isFigure: true,
        value: of,
        cell: (s) => {
          const v = of(s)
          return v === null ? '–' : decimal(String(v))
        },
      }
    }),
    ...(first.currency
      ? [
          {
            id: 'cost',
            head: first.currency,
            isFigure: true,
            value: (s: Account['statements'][number]) => Number(s.cost),
            cell: (s: Account['statements'][number]) => decimal(s.cost),
          },
        ]
      : []),
  ]
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="account-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="account-title">{account.window}</h2>
        <span className="text-[12.5px] text-ink-2">
          {daysOf({ ...account, zone: first.zone })}, {first.zone};{' '}
          {isClosed ? `closed ${moment(first.closed_at!)} by ${first.closed_by}` : 'a draft: not closed yet'}
        </span>
        <span className="ml-auto flex gap-3">
          {first.currency && (
            <a href={`/api/v1/statements/focus?window=${encodeURIComponent(account.window)}`} download="focus.csv">
              FOCUS as CSV
            </a>
          )}
          {!isClosed && <CloseButton account={account} />}
        </span>
      </div>
      <List
        keep="statements"
        name={`statements-of-${account.window}`}
        rows={all}
        rowKey={(s) => s.tenant}
        columns={columns}
      />
      {account.proof.length > 0 && (
        <ul className="border-t border-rule px-3.5 py-2 font-serif text-[13.5px]">
          {account.proof.map((p) => (
            <li key={p.resource}>
              {resources.find((r) => r.resource === p.resource)?.name}: the sum of all statements{' '}
              {p.ledger === p.statements
                ? 'is the ledger, to the last unit'
                : `is not the ledger, which has ${p.ledger}`}
              {p.note && <span className="text-ink-2">; {p.note}</span>}.
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}

/** Closes a window that is over, once it was asked whether it is meant. */
function CloseButton({ account }: { account: Account }) {
  const isAdministrator = useIdentity().data?.role === 'administrator'
  const [isAsked, setAsked] = useState(false)
  const queries = useQueryClient()
  const close = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/statements/close', { body: { window: account.window } })),
    onSuccess: () => queries.invalidateQueries(),
  })
  if (!isAdministrator || new Date(account.to) > new Date()) return null
  return (
    <>
      {close.error && (
        <span role="alert" className="text-wine">
          {close.error.message}
        </span>
      )}
      {isAsked ? (
        <>
          <span>A closed statement never changes.</span>
          <button
            type="button"
            className="button button-vine"
            disabled={close.isPending}
            onClick={() => close.mutate()}
          >
            Close {account.window}
          </button>
          <button type="button" className="button" onClick={() => setAsked(false)}>
            Leave it
          </button>
        </>
      ) : (
        <button type="button" className="button" onClick={() => setAsked(true)}>
          Close this window …
        </button>
      )}
    </>
  )
}

function ClosedSheet() {
  const closed = useStatements().data
  if (!closed || closed.length === 0) return null
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="closed-title">
      <h2 id="closed-title" className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        Closed statements
      </h2>
      <List
        keep="closed-statements"
        name="closed-statements"
        rows={closed}
        rowKey={(s) => String(s.number)}
        first={20}
        columns={[
          { id: 'number', head: 'Number', isFigure: true, value: (s) => s.number },
          {
            id: 'tenant',
            head: 'Statement of',
            isHead: true,
            value: (s) => whose(s.tenant),
            cell: (s) => (
              <Link to="/statements/$tenant" params={{ tenant: s.tenant }} search={{ window: s.window }}>
                {whose(s.tenant)}
              </Link>
            ),
          },
          { id: 'window', head: 'Window', value: (s) => s.window },
          {
            id: 'cost',
            head: 'Cost',
            isFigure: true,
            value: (s) => Number(s.cost),
            cell: (s) => (s.currency ? `${decimal(s.cost)} ${s.currency}` : '–'),
          },
          {
            id: 'closed_at',
            head: 'Closed',
            value: (s) => s.closed_at,
            cell: (s) => s.closed_at && moment(s.closed_at),
          },
          { id: 'closed_by', head: 'By', value: (s) => s.closed_by },
        ]}
      />
    </section>
  )
}
