import { memory } from '../../figures/text'
import { momentSeconds } from '../../time/zone'
import { ActButton } from '../../figures/act/ActButton'
import { unitOf } from '../../figures/act/verbs'
import { Missed } from '../../figures/Missed'
import { Link, useParams } from '@tanstack/react-router'
import type { AboutWorkload } from '../../api/client'
import { useColours, useWorkload } from '../../api/queries'
import { shown } from '../../figures/Name'
import { Owner } from '../../figures/ShareTable'
import { Waiting } from '../../figures/Trouble'
import { tenantColour, cpusOfWorkload } from '../../figures/units'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { HowItWent } from '../../figures/chart/HowItWent'
import { UseTable } from '../../figures/UseTable'
import { useTime } from '../../time/useTime'
import { Families } from './Families'
import { Figures } from './Figures'
import { GPUs } from './GPUs'
import { Mates } from './Mates'

/** Everything about one workload: whose it is and how that is known, what it may use and used, its processes. */
export function WorkloadPage() {
  const { id } = useParams({ strict: false }) as { id: string }
  const { span } = useTime()
  const about = useWorkload(span, Number(id))
  const { colours } = useColours()
  if (!about.data) return <Waiting error={about.error} what="The workload" />
  const w = about.data
  const colour = colours.get(w.tenant) ?? 0
  return (
    <>
      <div className="mb-3 flex flex-wrap items-baseline gap-3.5">
        <h1>{shown(w.name)}</h1>
        <span className="text-ink-2">
          {w.kind} · {w.state}
        </span>
        {w.state !== 'ended' && (
          <span className="ml-auto flex flex-wrap gap-2">
            <ActButton
              aim={{ form: 'workload', id: w.id, name: w.name, kind: w.kind, host: w.host }}
              beside={unitOf(w)}
            />
          </span>
        )}
      </div>
      <Missed by={w} />
      <HowItWent
        name={w.name}
        scope={{ workload: w.id }}
        by={['workload']}
        cpus={cpusOfWorkload(w)}
        bounds={(resource) => {
          const limit = Number(w.facts[{ cpu: 'cpu_limit_cores', memory: 'memory_limit_bytes' }[resource] ?? ''])
          return limit > 0 ? [{ name: 'its limit', value: limit }] : []
        }}
      />
      <div className="grid grid-cols-[minmax(340px,2fr)_3fr] items-start gap-4.5 max-lg:grid-cols-1">
        <Identity w={w} colour={colour} />
        <div className="grid gap-4.5">
          <section className="sheet overflow-x-auto" aria-labelledby="used-title">
            <div className="flex items-baseline gap-3 border-b border-rule-2 px-3.5 pt-2.5 pb-2">
              <h2 id="used-title">Use</h2>
              <span className="text-[12.5px] text-ink-2">over the span, while it ran</span>
            </div>
            <UseTable uses={w.uses} of={cpusOfWorkload(w)} />
            <Crowding w={w} />
            <Parts w={w} />
          </section>
          <GPUs w={w} />
          <Figures figures={w.figures} noSpace={w.space_unavailable} />
          <Families w={w} />
          <Mates title="On the same CPUs" unit="cpu" mates={w.shares_cpus_with} />
          <Mates title="On the same disks" unit="disk" mates={w.shares_disks_with} />
        </div>
      </div>
    </>
  )
}

function Identity({ w, colour }: { w: AboutWorkload; colour: number }) {
  const { search } = useTime()
  const facts = Object.entries(w.facts).filter(([k]) => !k.startsWith('cpu_limit') && k !== 'memory_limit_bytes')
  return (
    <section className="sheet" aria-labelledby="identity-title">
      <div className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">
        <h2 id="identity-title">Whose it is</h2>
      </div>
      <dl className="grid grid-cols-[120px_1fr] gap-x-3 gap-y-1.5 px-3.5 py-2.5 break-words [&_dd]:min-w-0 [&_dt]:text-ink-2">
        <dt>Owner</dt>
        <dd>
          <Owner name={w.owner} /> {w.uid !== null && <span className="text-ink-2">uid {w.uid}</span>}
        </dd>
        <dt>Tenant</dt>
        <dd>
          <span className="sw mr-2" style={{ background: tenantColour(colour, w.tenant) }} />
          <Link to="/tenants/$tenant" params={{ tenant: w.tenant }} search={search}>
            {shown(w.tenant)}
          </Link>
        </dd>
        <dt>By the rule</dt>
        <dd>{w.rule ? <code className="font-mono text-[12.5px]">{shown(w.rule)}</code> : 'none matches it'}</dd>
        <dt>Host</dt>
        <dd>
          <Link to="/hosts/$host" params={{ host: w.host }} search={search}>
            {w.host}
          </Link>
        </dd>
        <dt>Recognised as</dt>
        <dd>
          {w.recogniser}, by {shown(w.evidence)}
        </dd>
        {w.names_unavailable && (
          <>
            <dt>Names</dt>
            <dd className="text-amber">unavailable: {shown(w.names_unavailable)}</dd>
          </>
        )}
        {w.path && (
          <>
            <dt>cgroup</dt>
            <dd className="font-mono text-[12.5px] break-all">{shown(w.path)}</dd>
          </>
        )}
        {w.around && (
          <>
            <dt>Inside</dt>
            <dd>
              <WorkloadLink id={w.around.id} name={w.around.name} />
            </dd>
          </>
        )}
        {w.inside.length > 0 && (
          <>
            <dt>Around</dt>
            <dd>
              {w.inside.map((x) => (
                <span key={x.id} className="mr-3">
                  <WorkloadLink id={x.id} name={x.name} />
                </span>
              ))}
            </dd>
          </>
        )}
        <dt>May use</dt>
        <dd>{heldWords(w)}</dd>
        {facts.map(([k, v]) => (
          <Fact key={k} name={k.replaceAll('_', ' ')} value={v} />
        ))}
        {Object.entries(w.labels).map(([k, v]) => (
          <Fact key={`label ${k}`} name={shown(k)} value={v} label />
        ))}
      </dl>
      <div className="border-t border-rule px-3.5 py-2.5">
        <h3 className="mb-1 text-[12.5px] text-ink-2">What happened</h3>
        <ul>
          {w.events.map((e) => (
            <li key={e.at + e.what}>
              <time dateTime={e.at} className="mr-2 text-ink-2">
                {momentSeconds(e.at)}
              </time>
              {shown(e.what)}
            </li>
          ))}
        </ul>
      </div>
    </section>
  )
}

function Fact({ name, value, label }: { name: string; value: string; label?: boolean }) {
  return (
    <>
      <dt className="break-words">
        {label && <span className="text-[11.5px]">label </span>}
        {name}
      </dt>
      <dd>{shown(value)}</dd>
    </>
  )
}

function heldWords(w: AboutWorkload): string {
  const why = {
    limit: 'by its limit',
    cpuset: 'by the CPUs it may run on',
    asked: 'as it asked for',
    host: 'all the host’s: nothing limits it',
  }[w.held.may_use_by]
  const cpus = `${Number(w.held.may_use_cpus.toPrecision(4))} CPUs, ${why}`
  const limit = w.held.memory_limit_bytes ?? w.held.memory_asked_bytes
  const bytes = limit === null ? 'memory without limit' : `memory ${memory(limit)}`
  return [cpus, w.held.allowed_cpus && `CPUs ${w.held.allowed_cpus}`, bytes, w.held.gpus && `GPUs ${w.held.gpus}`]
    .filter(Boolean)
    .join('; ')
}

/** Threads that want to run against the CPUs there are for them. */
function Crowding({ w }: { w: AboutWorkload }) {
  if (w.runnable_per_cpu === null || w.threads === 0) return null
  const crowded = w.runnable_per_cpu > 2
  return (
    <p className="px-3.5 py-2">
      <b>{w.threads}</b> threads, <b>{w.runnable_threads_mean.toFixed(1)}</b> of them runnable in the mean
      {crowded ? (
        <span className="font-semibold text-wine">
          {' '}
          on {Number(w.may_use_cpus.toPrecision(3))} CPUs: they wait for each other
        </span>
      ) : (
        <> on {Number(w.may_use_cpus.toPrecision(3))} CPUs</>
      )}
      , <b>{w.runnable_threads_peak}</b> at most.
    </p>
  )
}

function Parts({ w }: { w: AboutWorkload }) {
  if (w.parts.length === 0) return null
  const most = Math.max(...w.parts.map((p) => p.cpu_seconds))
  return (
    <table aria-label="Parts" className="border-t border-rule">
      <tbody>
        {w.parts.map((p) => (
          <tr key={p.name}>
            <th scope="row" className="w-40">
              {shown(p.name)}
            </th>
            <td>
              <div className="h-2 bg-vine" style={{ width: `${(100 * p.cpu_seconds) / most}%` }} aria-hidden />
            </td>
            <td className="num w-32">{p.cpu_seconds.toFixed(1)} CPU s</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
