import { Link } from '@tanstack/react-router'
import { useStatements } from '../../api/queries'
import { moment } from '../../figures/text'
import { decimal } from '../statements/words'

/** How many of a tenant's statements its page lists. */
const shownHere = 6

/** A tenant's closed statements, the newest first, and the way to the one that runs. */
export function TenantStatements({ tenant }: { tenant: string }) {
  const closed = useStatements(tenant).data ?? []
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="tenant-statements-title">
      <div className="flex flex-wrap items-baseline gap-3 px-3.5 pt-2.5 pb-2">
        <h2 id="tenant-statements-title">Statements</h2>
        <Link to="/statements/$tenant" params={{ tenant }} search={{}}>
          the window that runs
        </Link>
      </div>
      {closed.length > 0 && (
        <ul className="border-t border-rule-2 px-3.5 py-2">
          {closed.slice(0, shownHere).map((s) => (
            <li key={s.number} className="flex flex-wrap gap-x-4 py-0.5">
              <Link to="/statements/$tenant" params={{ tenant }} search={{ window: s.window }}>
                {s.window}
              </Link>
              {s.currency && (
                <span>
                  {decimal(s.cost)} {s.currency}
                </span>
              )}
              <span className="text-ink-2">
                number {s.number}, closed {s.closed_at && moment(s.closed_at)}
              </span>
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}
