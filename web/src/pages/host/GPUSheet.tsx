import { useColours, useGPUs } from '../../api/queries'
import { useTime } from '../../time/useTime'
import { GPURows } from '../gpus/GPURows'

/** The GPUs of a host. A host that has none takes no place for them. */
export function GPUSheet({ host }: { host: string }) {
  const { span } = useTime()
  const gpus = useGPUs(span, host).data
  const { colours } = useColours()
  if (!gpus || (gpus.gpus.length === 0 && gpus.notes.length === 0)) return null
  const wrong = gpus.gpus.filter((g) => g.notices.length > 0).length
  return (
    <section className="sheet mt-4.5 overflow-x-auto" aria-labelledby="gpus-title">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="gpus-title">GPUs</h2>
        <span className="text-[12.5px] text-ink-2">
          {gpus.gpus.filter((g) => !g.card).length}, {wrong === 0 ? 'nothing to look at' : `${wrong} to look at`}
        </span>
      </div>
      {gpus.gpus.length > 0 && <GPURows gpus={gpus} colours={colours} ofHost />}
      {gpus.notes.map((n) => (
        <p key={n} className="px-3.5 py-2 text-amber">
          {n}
        </p>
      ))}
    </section>
  )
}
