import { useColours, useGPUs } from '../../api/queries'
import { Missed } from '../../figures/Missed'
import { PartsWent } from '../../figures/chart/PartsWent'
import { TenantKey } from '../../figures/TenantKey'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'
import { GPURows } from './GPURows'

/** Every GPU of every host: busy or idle, whom it is given to, and who uses it. */
export function GPUsPage() {
  const { span } = useTime()
  const gpus = useGPUs(span)
  const { colours } = useColours()
  return (
    <>
      <h1 className="mb-1.5">GPUs</h1>
      {gpus.data && (
        <p className="mb-3 font-serif text-[15px]" role="status">
          {summary(gpus.data.gpus)}
        </p>
      )}
      <Missed by={gpus.data} />
      {(!gpus.data || gpus.data.gpus.length > 0) && (
        <section className="sheet overflow-x-auto" aria-label="GPUs">
          {gpus.data ? <GPURows gpus={gpus.data} colours={colours} /> : <Waiting error={gpus.error} what="The GPUs" />}
          <TenantKey />
        </section>
      )}
      {gpus.data && gpus.data.gpus.length > 0 && <PartsWent of="gpu" />}
      {gpus.data?.notes.map((n) => (
        <p key={n} className="mt-3 text-amber">
          {n}
        </p>
      ))}
      <p className="mt-3 max-w-200 font-serif text-[13.5px] text-ink-2">
        Busy is the part of the span in which a GPU’s engine had work, however much of the engine that fills. Where it
        has several engines the busiest counts: engines are never added up. A column of the small figure is for how long
        a workload kept the GPU so busy, from idle on the left to all of the time on the right.
      </p>
    </>
  )
}

function summary(gpus: { card?: string; state: string; notices: string[] }[]): string {
  const cards = gpus.filter((g) => !g.card)
  if (cards.length === 0) return 'No host tells of a GPU.'
  const of = (state: string) => cards.filter((g) => g.state === state).length
  const parts = [`${of('busy')} busy`, `${of('idle')} idle`]
  if (of('lost') > 0) parts.push(`${of('lost')} lost`)
  if (of('unknown') > 0) parts.push(`${of('unknown')} of which it is not told`)
  return `${cards.length} GPUs: ${parts.join(', ')}. ${gpus.filter((g) => g.notices.length > 0).length} to look at.`
}
