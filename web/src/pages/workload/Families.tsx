import { memory } from '../../figures/text'
import { meanText, type CPUsOf, cpusOfWorkload } from '../../figures/units'
import { clockSeconds } from '../../time/zone'
import { Head } from '../../figures/Heads'
import { useState } from 'react'
import type { AboutWorkload, Family } from '../../api/client'
import { ActButton, useMayAct } from '../../figures/act/ActButton'
import { shown } from '../../figures/Name'
import { ActsHead } from '../../figures/ShareTable'

const most = 12

/** The workload's processes at the newest reading: one block a family, parents above their children. */
export function Families({ w }: { w: AboutWorkload }) {
  const [all, setAll] = useState(false)
  const mayAct = useMayAct() && w.state !== 'ended'
  if (w.processes_at === null || w.families.length === 0) return null
  const families = all ? w.families : w.families.slice(0, most)
  return (
    <section className="sheet overflow-x-auto" aria-labelledby="processes-title">
      <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="processes-title">Processes</h2>
        <span className="text-[12.5px] text-ink-2">
          as families, at {clockSeconds(w.processes_at)}, over {w.processes_over_seconds.toPrecision(2)} s
        </span>
      </div>
      <table>
        <thead>
          <tr>
            <Head name="Program" />
            <th scope="col" className="num">
              pid
            </th>
            <Head name="Threads" className="num" />
            <Head name="Runnable" className="num" />
            <Head name="CPU time" className="num" />
            <Head name="Memory" className="num" />
            <Head name="On CPU" className="num" />
            {mayAct && <ActsHead />}
          </tr>
        </thead>
        <tbody>
          {families.map((f) => (
            <FamilyRows key={f.head.pid} family={f} host={mayAct ? w.host : null} of={cpusOfWorkload(w)} />
          ))}
        </tbody>
      </table>
      {w.families.length > families.length && (
        <p className="px-3.5 py-2">
          <button type="button" className="link" onClick={() => setAll(true)}>
            {w.families.length - families.length} more families
          </button>
        </p>
      )}
    </section>
  )
}

/** A family's processes. On which host acts may be done on them; null where they may not. */
function FamilyRows({ family: f, host, of }: { family: Family; host: string | null; of?: CPUsOf }) {
  const several = f.processes > 1
  return (
    <>
      {several && (
        <tr>
          <th scope="row" className="font-semibold!">
            {shown(f.head.program)} and {f.processes - 1} below it
          </th>
          <td className="num">{f.head.pid}</td>
          <td className="num">{f.threads}</td>
          <td className="num">{f.runnable_threads}</td>
          <td className="num">{meanText('cpu', f.cores, of)}</td>
          <td className="num">{memory(f.memory_bytes)}</td>
          <td className="num">{f.cpus}</td>
          {host && (
            <td>
              <ActButton
                aim={{
                  form: 'family',
                  pid: f.head.pid,
                  name: `${f.head.program} and ${f.processes - 1} below it`,
                  host,
                }}
              />
            </td>
          )}
        </tr>
      )}
      {f.members.map((p) => (
        <tr key={p.pid} className={several ? 'soft' : ''}>
          <th scope="row" style={{ paddingLeft: 14 + 16 * (p.depth + (several ? 1 : 0)) }}>
            {shown(p.program)}
          </th>
          <td className="num">{p.pid}</td>
          <td className="num">{p.threads}</td>
          <td className="num">{p.runnable_threads}</td>
          <td className="num">{meanText('cpu', p.cores, of)}</td>
          <td className="num">{memory(p.memory_bytes)}</td>
          <td className="num">{p.cpu}</td>
          {host && (
            <td>
              <ActButton aim={{ form: 'process', pid: p.pid, name: `${p.program}, process ${p.pid}`, host }} />
            </td>
          )}
        </tr>
      ))}
    </>
  )
}
