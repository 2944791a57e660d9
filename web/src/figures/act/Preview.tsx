import { momentSeconds } from '../../time/zone'
import { Head } from '../Heads'
import type { Act, ValueChange } from '../../api/client'
import { shown } from '../Name'
import { isWell } from './verbs'

const mostShown = 30

/** What an act would do, as its host sees it: what it touches, what changes, who else feels it. */
export function Preview({ of: a }: { of: Act }) {
  const p = a.preview
  if (!p) return <Refusal of={a} />
  return (
    <div className="grid gap-3">
      {a.state !== 'previewed' && <Refusal of={a} />}
      <p>
        <span className="font-semibold">{shown(p.target)}</span>, through {p.through}.
      </p>
      <Changes changes={p.changes} />
      {p.processes.length > 0 && (
        <div className="overflow-x-auto">
          <p className="text-[12.5px] font-semibold text-ink-2">
            Touches {p.processes_total.toLocaleString('en')} {p.processes_total === 1 ? 'process' : 'processes'}
          </p>
          <table aria-label="Processes it touches">
            <thead>
              <tr>
                <th scope="col" className="num">
                  pid
                </th>
                <Head name="User" />
                <Head name="Program" />
                <Head name="Began" />
              </tr>
            </thead>
            <tbody>
              {p.processes.slice(0, mostShown).map((x) => (
                <tr key={x.pid}>
                  <td className="num">{x.pid}</td>
                  <td>{shown(x.user)}</td>
                  <td>{shown(x.program)}</td>
                  <td>{momentSeconds(x.began_at)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {p.processes_total > mostShown && (
            <p className="text-[12.5px] text-ink-2">and {(p.processes_total - mostShown).toLocaleString('en')} more</p>
          )}
        </div>
      )}
      <Left title="Not touched" left={p.left} />
      {p.shared.length > 0 && (
        <p>
          <span className="font-semibold">Would feel it too:</span> {p.shared.map(shown).join(', ')}
        </p>
      )}
      {p.warnings.length > 0 && (
        <ul className="grid gap-1 border-l-2 border-amber pl-3">
          {p.warnings.map((w) => (
            <li key={w}>{w}.</li>
          ))}
        </ul>
      )}
      <p className="text-[12.5px] text-ink-2">{p.undo ? `Can be undone: ${p.undo}.` : 'It cannot be undone.'}</p>
    </div>
  )
}

/** What came of an act, read back from the kernel. */
export function Result({ of: a }: { of: Act }) {
  const o = a.outcome
  return (
    <div className="grid gap-3">
      <p role="status" className={isWell(a) ? '' : 'text-wine'}>
        <span className="font-semibold">{a.state}</span>: {a.detail}.
      </p>
      {o && <Changes changes={o.changes} />}
      {o && <Left title="Not done" left={o.left} />}
      {o && o.found.length > 0 && (
        <table aria-label="Found">
          <tbody>
            {o.found.map((f, i) => (
              <tr key={i}>
                <td className="text-ink-2">{f.of}</td>
                <td>{f.what}</td>
                <td className="font-mono text-[12.5px] break-all">{f.text}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}

function Refusal({ of: a }: { of: Act }) {
  return (
    <p role="alert" className={isWell(a) ? '' : 'text-wine'}>
      <span className="font-semibold">{a.state}</span>: {a.detail || 'its host has not answered yet'}
    </p>
  )
}

function Changes({ changes }: { changes: ValueChange[] }) {
  if (changes.length === 0) return null
  return (
    <div className="overflow-x-auto">
      <table aria-label="Values">
        <thead>
          <tr>
            <Head name="Value" />
            <Head name="Before" className="num" />
            <Head name="After" className="num" />
            <Head name="Where" />
          </tr>
        </thead>
        <tbody>
          {changes.slice(0, mostShown).map((c) => (
            <tr key={c.what + c.where}>
              <th scope="row">{c.what}</th>
              <td className="num">{c.before === '' ? 'none' : c.before}</td>
              <td className="num">{c.after}</td>
              <td className="text-[12.5px] break-all text-ink-2">{c.where}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {changes.length > mostShown && (
        <p className="text-[12.5px] text-ink-2">and {(changes.length - mostShown).toLocaleString('en')} more</p>
      )}
    </div>
  )
}

function Left({ title, left }: { title: string; left: { what: string; why: string }[] }) {
  if (left.length === 0) return null
  return (
    <div>
      <p className="text-[12.5px] font-semibold text-ink-2">{title}</p>
      <ul>
        {left.slice(0, mostShown).map((x) => (
          <li key={x.what + x.why}>
            {shown(x.what)}: <span className="text-wine">{x.why}</span>
          </li>
        ))}
      </ul>
    </div>
  )
}
