import type { ControllerLine } from '../../api/client'
import { Heads } from '../../figures/Heads'
import { percent, rate } from '../../figures/text'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { Folding } from '../../figures/Folding'

/** What the drives behind each controller did together: where it is the bottleneck, none of them need be busy. */
export function ControllerRows({ controllers }: { controllers: ControllerLine[] }) {
  if (controllers.length === 0) return null
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="controllers-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="controllers-title">Controllers</h2>
        <span className="text-[12.5px] text-ink-2">all drives behind each, together</span>
      </div>
      <Folding className="min-w-180">
        <Heads
          columns={[
            'Controller',
            'Drives',
            ['Read', 'num'],
            ['Written', 'num'],
            ['Ops/s', 'num'],
            ['Queued', 'num'],
            'Most by',
          ]}
        />
        <tbody>
          {controllers.map((c) => (
            <tr key={`${c.host}/${c.controller}`}>
              <th scope="row" className="whitespace-nowrap">
                {c.host}
                <small className="block text-[12.5px] font-normal text-ink-2">{c.controller}</small>
              </th>
              <td>{c.drives.join(', ')}</td>
              <td className="num">{rate(c.read_bytes_per_second)}</td>
              <td className="num">{rate(c.written_bytes_per_second)}</td>
              <td className="num">{(c.reads_per_second + c.writes_per_second).toFixed(0)}</td>
              <td className="num">{c.queue_mean.toFixed(1)}</td>
              <td className="text-[12.5px]">
                {c.users[0] ? (
                  <>
                    <WorkloadLink id={c.users[0].id} name={c.users[0].name} />{' '}
                    <span className="text-ink-2">
                      {c.users[0].tenant === 'unassigned' ? '(unassigned)' : `of ${c.users[0].tenant}`},{' '}
                      {percent(c.users[0].share)}
                    </span>
                  </>
                ) : (
                  <span className="text-ink-2">{c.users_unavailable || 'no workload'}</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Folding>
    </section>
  )
}
