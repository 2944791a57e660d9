import type { Tariff } from '../../api/client'
import { moment } from '../../figures/text'
import { title } from '../../figures/units'
import { splitWords } from './words'

const per: Record<string, string> = {
  cpu: 'core-hour',
  memory: 'GB-hour',
  gpu: 'GPU-hour',
  gpu_memory: 'GB-hour',
  energy: 'kWh',
}

/** What things cost, and how what is shared is split. */
export function TariffSheet({ tariff }: { tariff: Tariff }) {
  const prices = tariff.prices ?? []
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-labelledby="tariff-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="tariff-title">Tariff</h2>
        <span className="text-[12.5px] text-ink-2">
          {tariff.made_at
            ? `by the ${tariff.window} in ${tariff.zone}; set ${moment(tariff.made_at)} by ${tariff.made_by}`
            : 'none was set: statements are by months of UTC, and have no prices'}
        </span>
      </div>
      <p className="px-3.5 py-2 font-serif text-[13.5px]">
        {splitWords(tariff.split ?? 'none', tariff.keep_idle ?? false)} <code>vinescale tariff import FILE</code> sets
        it.
      </p>
      {prices.length > 0 && (
        <table className="w-full">
          <thead>
            <tr>
              <th className="px-3.5 py-1.5 text-left">Resource</th>
              <th className="px-3.5 py-1.5 text-right">{tariff.currency}</th>
              <th className="px-3.5 py-1.5 text-left">a</th>
              <th className="px-3.5 py-1.5 text-left">from</th>
              <th className="px-3.5 py-1.5 text-left">until</th>
            </tr>
          </thead>
          <tbody>
            {prices.map((p) => (
              <tr key={p.of + p.from} className="border-t border-rule">
                <th scope="row" className="px-3.5 py-1 text-left font-normal">
                  {title(p.of)}
                </th>
                <td className="px-3.5 py-1 text-right">{p.price}</td>
                <td className="px-3.5 py-1">{per[p.of] ?? 'TB'}</td>
                <td className="px-3.5 py-1">{p.from}</td>
                <td className="px-3.5 py-1">{p.until || '–'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}
