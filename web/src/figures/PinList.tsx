import { Link } from '@tanstack/react-router'
import { useState, type ReactNode } from 'react'
import type { PinAudit } from '../api/client'
import { useTime } from '../time/useTime'
import { List, type Column } from './List'
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
  const part = (p: PinAudit, seconds: number) =>
    p.capacity_cpu_seconds > 0 ? percent(seconds / p.capacity_cpu_seconds) : '–'
  const spent = (id: string, head: string, seconds: (p: PinAudit) => number): Column<PinAudit> => ({
    id,
    head,
    isFigure: true,
    value: seconds,
    cell: (p) => part(p, seconds(p)),
  })
  const toggle = (p: PinAudit) =>
    setOpened(opened.includes(p.id) ? opened.filter((id) => id !== p.id) : [...opened, p.id])
  const columns: Column<PinAudit>[] = [
    {
      id: 'verdict',
      head: 'Verdict',
      isHead: true,
      className: 'whitespace-nowrap',
      value: (p) => p.verdict,
      cell: (p) => (
        <button
          type="button"
          aria-expanded={opened.includes(p.id)}
          className="font-[inherit]"
          onClick={() => toggle(p)}
        >
          {opened.includes(p.id) ? '▾' : '▸'}{' '}
          <span className={`mark-${marks[p.grade]} mx-1.5 inline-block`} aria-hidden />
          {p.verdict}
        </button>
      ),
    },
    ...(withHost
      ? [
          {
            id: 'host',
            head: 'Host',
            value: (p: PinAudit) => p.host,
            cell: (p: PinAudit) => (
              <Link to="/hosts/$host" params={{ host: p.host }} search={search}>
                {p.host}
              </Link>
            ),
          },
        ]
      : []),
    {
      id: 'cpus',
      head: 'CPUs',
      className: 'whitespace-nowrap',
      value: (p) => p.cpus,
      cell: (p) => (
        <>
          {p.cpus}
          {!p.exclusive && <span className="text-ink-2"> shared</span>}
        </>
      ),
    },
    { id: 'holder', head: 'Declared for', value: (p) => p.holder, cell: (p) => shown(p.holder) },
    spent('holder_cpu_seconds', 'Holder', (p) => p.kept_cpu_seconds),
    spent('others_cpu_seconds', 'Others', (p) => p.others_cpu_seconds),
    spent('kernel_cpu_seconds', 'Kernel', (p) => p.kernel_cpu_seconds + p.steal_cpu_seconds),
    spent('idle_cpu_seconds', 'Idle', (p) => p.idle_cpu_seconds),
    {
      id: 'declared_from',
      head: 'Since',
      className: 'whitespace-nowrap',
      value: (p) => p.declared_from,
      cell: (p) => moment(p.declared_from),
    },
  ]
  return (
    <List
      keep="pins"
      name="declared-cpus"
      rows={pins}
      columns={columns}
      rowKey={(p) => String(p.id)}
      below={(p) => opened.includes(p.id) && <Evidence pin={p} />}
      acts={act}
    />
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
