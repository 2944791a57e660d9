import { memory } from '../../figures/text'
import { Link } from '@tanstack/react-router'
import type { AboutWorkload } from '../../api/client'
import { Heads } from '../../figures/Heads'
import { shown } from '../../figures/Name'
import { percent } from '../../figures/text'
import { useTime } from '../../time/useTime'
import { spreadText, stateText } from '../../figures/gpus'
import { Spread } from '../gpus/Spread'

/** The GPUs that a workload was given or used over its life: by the host's number, and by its own. */
export function GPUs({ w }: { w: AboutWorkload }) {
  const { search } = useTime()
  if (w.gpus.length === 0) return null
  return (
    <section className="sheet overflow-x-auto" aria-labelledby="gpus-title">
      <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="gpus-title">GPUs</h2>
        <span className="text-[12.5px] text-ink-2">over its whole life</span>
      </div>
      <table>
        <Heads
          columns={[
            'Host’s number',
            ['Inside', 'num'],
            'Given by',
            'State now',
            ['Busy', 'num'],
            'How it swung',
            ['Memory', 'num'],
          ]}
        />
        <tbody>
          {w.gpus.map((g) => (
            <tr key={g.name}>
              <th scope="row">
                <Link to="/hosts/$host/gpus/$gpu" params={{ host: w.host, gpu: g.number }} search={search}>
                  GPU {g.number}
                </Link>
                <small className="block text-[12.5px] font-normal text-ink-2">{shown(g.title)}</small>
              </th>
              <td className="num">{g.number_inside >= 0 ? g.number_inside : '–'}</td>
              <td>{g.given_by ? `${g.given_by}${g.claim ? ' alone' : ''}` : 'not given'}</td>
              <td>{stateText(g, new Date().toISOString())}</td>
              <td className="num">{g.use?.spread ? percent(g.use.spread.mean) : '–'}</td>
              <td>
                {g.use?.spread ? (
                  <>
                    <Spread spread={g.use.spread} name={`GPU ${g.number}`} />
                    <small className="block text-[12.5px] text-ink-2">{spreadText(g.use.spread)}</small>
                  </>
                ) : (
                  <span className="text-ink-2">not told</span>
                )}
                {g.notices.map((n) => (
                  <small key={n} className="block text-[12.5px] text-wine">
                    {shown(n)}
                  </small>
                ))}
              </td>
              <td className="num">{g.use ? memory(g.use.memory_bytes_mean) : '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
