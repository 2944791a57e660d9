import { Link } from '@tanstack/react-router'
import { Fragment, useState, type ReactNode } from 'react'
import type { PinAudit } from '../api/client'
import { useTime } from '../time/useTime'
import { said, shown } from './Name'
import { moment, percent } from './text'

const marks: Record<string, string> = { bad: 'bad', watch: 'watch', fine: 'info', unknown: 'info' }

/** Declarations of CPUs with their verdicts, a line each; one opens to the evidence. */
export function PinList({
  pins,
  withHost,
  act,
}: {
  pins: PinAudit[]
  withHost?: boolean
  act?: (p: PinAudit) => ReactNode
}) {
  const [opened, setOpened] = useState<number[]>([])
  const { search } = useTime()
  const columns = 8 + (withHost ? 1 : 0) + (act ? 1 : 0)
  return (
    <table>
      <thead>
        <tr>
          <th scope="col">Verdict</th>
          {withHost && <th scope="col">Host</th>}
          <th scope="col">CPUs</th>
          <th scope="col">Declared for</th>
          <th scope="col" className="num">
            Holder
          </th>
          <th scope="col" className="num">
            Others
          </th>
          <th scope="col" className="num">
            Kernel
          </th>
          <th scope="col" className="num">
            Idle
          </th>
          <th scope="col">Since</th>
          {act && (
            <th scope="col">
              <span className="sr-only">Acts</span>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {pins.map((p) => {
          const part = (seconds: number) =>
            p.capacity_cpu_seconds > 0 ? percent(seconds / p.capacity_cpu_seconds) : '–'
          const isOpen = opened.includes(p.id)
          return (
            <Fragment key={p.id}>
              <tr>
                <th scope="row" className="whitespace-nowrap">
                  <button
                    type="button"
                    aria-expanded={isOpen}
                    className="font-[inherit]"
                    onClick={() => setOpened(isOpen ? opened.filter((id) => id !== p.id) : [...opened, p.id])}
                  >
                    {isOpen ? '▾' : '▸'} <span className={`mark-${marks[p.grade]} mx-1.5 inline-block`} aria-hidden />
                    {p.verdict}
                  </button>
                </th>
                {withHost && (
                  <td>
                    <Link to="/hosts/$host" params={{ host: p.host }} search={search}>
                      {p.host}
                    </Link>
                  </td>
                )}
                <td className="whitespace-nowrap">
                  {p.cpus}
                  {!p.exclusive && <span className="text-ink-2"> shared</span>}
                </td>
                <td>{shown(p.holder)}</td>
                <td className="num">{part(p.kept_cpu_seconds)}</td>
                <td className="num">{part(p.others_cpu_seconds)}</td>
                <td className="num">{part(p.kernel_cpu_seconds + p.steal_cpu_seconds)}</td>
                <td className="num">{part(p.idle_cpu_seconds)}</td>
                <td className="whitespace-nowrap">{moment(p.declared_from)}</td>
                {act && <td className="whitespace-nowrap">{act(p)}</td>}
              </tr>
              {isOpen && (
                <tr>
                  <td colSpan={columns}>
                    <Evidence pin={p} />
                  </td>
                </tr>
              )}
            </Fragment>
          )
        })}
      </tbody>
    </table>
  )
}

/** What each verdict says, and when it was. */
function Evidence({ pin: p }: { pin: PinAudit }) {
  const faults = p.verdicts.length > 0 ? p.verdicts : [{ verdict: p.verdict, sentence: p.sentence, when: undefined }]
  return (
    <>
      <ul className="grid gap-1 font-serif">
        {faults.map((f) => (
          <li key={f.verdict}>
            <b>{f.verdict}</b>: {said(f.sentence)}
            {f.when && (
              <>
                {' '}
                It was from {moment(f.when.from)} until {moment(f.when.to)}
                {f.when.stretches > 1 && `, most from ${moment(f.when.worst_from)} on`}
                {f.when.holder_waited_seconds !== null &&
                  `; the holder’s threads waited ${f.when.holder_waited_seconds.toFixed(1)} s for a CPU meanwhile`}
                .
              </>
            )}
          </li>
        ))}
      </ul>
      <p className="mt-1 text-[12.5px] text-ink-2">
        Affinity and cpusets let the holder run on {p.effective_cpus || 'none that is known'}, and {p.others_allowed}{' '}
        other workloads on these CPUs. Time by CPU is {p.source}; the residual is {p.residual_cpu_seconds.toFixed(1)} s.
        {p.reason && ` Declared by ${p.made_by}: ${p.reason}.`}
      </p>
    </>
  )
}
