import { Link } from '@tanstack/react-router'
import { said } from '../../figures/Name'
import { useTime } from '../../time/useTime'
import type { Need } from './needs'

const words = { bad: 'Trouble', watch: 'Watch', info: 'Information' }

/** Sentences first: what needs the administrator, and one step from each to where it is. */
export function NeedsYou({ needs, across }: { needs: Need[] | null; across?: boolean }) {
  const { search } = useTime()
  return (
    <aside className="sheet" aria-labelledby="needs-title">
      <div className="border-b border-rule-2 px-3.5 pt-3 pb-2">
        <h2 id="needs-title">What needs you</h2>
      </div>
      {needs?.length === 0 && <p className="p-3.5 font-serif text-ink-2">Nothing in this span.</p>}
      <ul className={across ? 'grid grid-cols-3 max-lg:grid-cols-1' : ''}>
        {needs?.map((n) => (
          <li
            key={n.class + n.sentence.map((s) => (typeof s === 'string' ? s : s.bold)).join('')}
            className="grid grid-cols-[14px_1fr] gap-2 border-b border-rule px-3.5 py-2.5 last:border-0"
          >
            <span className={`mt-1.5 mark-${n.grade}`} role="img" aria-label={words[n.grade]} />
            <div>
              <p className="font-serif leading-[1.4]">
                {n.sentence.map((s, i) => (typeof s === 'string' ? said(s) : <b key={i}>{said(s.bold)}</b>))}
              </p>
              <small className="text-[12.5px] text-ink-2">
                {n.class}
                {n.host && (
                  <>
                    {' · '}
                    <Link to="/hosts/$host" params={{ host: n.host }} search={search}>
                      {n.host}
                    </Link>
                  </>
                )}
                {n.tenant && (
                  <>
                    {' · '}
                    <Link to="/tenants/$tenant" params={{ tenant: n.tenant }} search={search}>
                      its workloads
                    </Link>
                  </>
                )}
              </small>
            </div>
          </li>
        ))}
      </ul>
    </aside>
  )
}
