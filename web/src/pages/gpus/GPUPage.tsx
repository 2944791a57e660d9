import { useParams } from '@tanstack/react-router'
import type { GPUFigure, GPULine } from '../../api/client'
import { useColours, useGPUs } from '../../api/queries'
import { ActButton } from '../../figures/act/ActButton'
import { PartsWent } from '../../figures/chart/PartsWent'
import { Missed } from '../../figures/Missed'
import { shown } from '../../figures/Name'
import { Waiting } from '../../figures/Trouble'
import { useTime } from '../../time/useTime'
import { GPURows } from './GPURows'
import { gpuFigure, spreadText } from '../../figures/gpus'

/** Everything about one GPU. */
export function GPUPage() {
  const { host, gpu } = useParams({ strict: false }) as { host: string; gpu: string }
  const { span } = useTime()
  const one = useGPUs(span, host, gpu)
  const { colours } = useColours()
  const g = one.data?.gpus[0]
  if (!one.data || !g) return <Waiting error={one.error} what="The GPU" />
  const sections = [...new Set((g.figures ?? []).map((f) => f.section))]
  return (
    <>
      <div className="mb-1.5 flex flex-wrap items-baseline gap-3.5">
        <h1>
          GPU {g.number} of {host}
        </h1>
        <span className="text-ink-2">{shown(g.title)}</span>
        {g.bus && (
          <span className="ml-auto">
            <ActButton aim={{ form: 'gpu', gpu: g.bus, name: `GPU ${g.number} of ${host}`, host }} />
          </span>
        )}
      </div>
      <Missed by={one.data} />
      <section className="sheet overflow-x-auto" aria-label="The GPU">
        <GPURows gpus={one.data} colours={colours} ofHost />
        {g.users.map(
          (u) =>
            u.spread && (
              <p key={u.id} className="px-3.5 py-1.5 text-[12.5px]">
                <b>{shown(u.name)}</b> {spreadText(u.spread)}{' '}
                {u.engines.map((e) => `${e.engine} ${(100 * e.busy).toFixed(1)} %`).join(', ')}
              </p>
            ),
        )}
      </section>
      <PartsWent of="gpu" host={host} part={`GPU ${g.number}`} />
      <div className="mt-4.5 grid grid-cols-3 items-start gap-4.5 max-lg:grid-cols-1">
        <Identity gpu={g} />
        {sections.map((s) => (
          <Section key={s} name={s} figures={(g.figures ?? []).filter((f) => f.section === s)} />
        ))}
      </div>
    </>
  )
}

function Identity({ gpu: g }: { gpu: GPULine }) {
  const rows: [string, string | undefined][] = [
    ['name', g.name],
    ['bus', g.bus],
    ['opened by', g.nodes.join(', ')],
    ['driver', g.driver],
    ['told by', g.told_by],
  ]
  return (
    <section className="sheet" aria-label="Identity">
      <h2 className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">Which it is</h2>
      <table>
        <tbody>
          {rows.map(([what, text]) =>
            text ? (
              <tr key={what}>
                <th scope="row">{what}</th>
                <td className="break-all">{shown(text)}</td>
              </tr>
            ) : null,
          )}
        </tbody>
      </table>
    </section>
  )
}

function Section({ name, figures }: { name: string; figures: GPUFigure[] }) {
  return (
    <section className="sheet" aria-label={name}>
      <h2 className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">{name.charAt(0).toUpperCase() + name.slice(1)}</h2>
      <table>
        <tbody>
          {figures.map((f) => {
            const text = gpuFigure(f)
            return (
              <tr key={f.name}>
                <th scope="row">{shown(f.name)}</th>
                <td className={text === null ? 'text-ink-2' : 'num'}>
                  {text === null ? `– ${f.unavailable ?? ''}` : shown(text)}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}
