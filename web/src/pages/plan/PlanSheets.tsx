import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { PinPlan } from '../../api/client'
import { List, type Column } from '../../figures/List'
import { said, shown } from '../../figures/Name'
import { WorkloadLink } from '../../figures/WorkloadLink'
import { percent } from '../../figures/text'
import { amountText } from '../../figures/units'
import { useTime } from '../../time/useTime'
import { Steps } from './Steps'

/** A plan of CPUs: the choice, what it changes for whom, the verdicts to expect, and the steps. */
export function PlanSheets({ plan }: { plan: PinPlan }) {
  return (
    <>
      <p className={`mb-3 font-serif text-[15px] ${plan.fits ? '' : 'text-wine'}`} role="status">
        {said(plan.sentence)}
        {plan.fits && plan.declared_before !== '' && <> Declared for it there until now: {plan.declared_before}.</>}
      </p>
      {plan.fits && (
        <>
          <Left plan={plan} />
          <Expected plan={plan} />
          <Steps key={`${plan.host} ${plan.cpus} ${plan.holder}`} plan={plan} />
          <Gains plan={plan} />
          <Movers plan={plan} />
        </>
      )}
      {plan.makes_room.length > 0 && (
        <Sheet title="What would make room">
          <ul className="px-3.5 py-2 font-serif text-[15px]">
            {plan.makes_room.map((r) => (
              <li key={`${r.host} ${r.cpus} ${r.holder}`} className="py-0.5">
                {said(r.sentence)}.{r.enough && <strong className="font-semibold"> With these it would fit.</strong>}
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      {plan.looked_at.length > 1 && <Looked plan={plan} />}
    </>
  )
}

function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-label={title}>
      <h2 className="border-b border-rule-2 px-3.5 pt-2.5 pb-2">{title}</h2>
      {children}
    </section>
  )
}

function Left({ plan }: { plan: PinPlan }) {
  const { left } = plan
  const busy = (part: number | null) => (part === null ? 'how busy is not known' : `${percent(part)} busy`)
  return (
    <section className="sheet mb-4.5 overflow-x-auto" aria-label="What is left for everybody">
      <table className="w-full">
        <thead>
          <tr>
            <th className="px-3.5 py-1.5 text-left">Left for everybody</th>
            <th className="px-3.5 py-1.5 text-left">CPUs</th>
            <th className="px-3.5 py-1.5 text-left">Over this span</th>
          </tr>
        </thead>
        <tbody>
          <tr className="border-t border-rule">
            <th scope="row" className="px-3.5 py-1.5 text-left font-normal">
              now
            </th>
            <td className="px-3.5 py-1.5">{left.before_cpus}</td>
            <td className="px-3.5 py-1.5">{busy(left.before_busy)}</td>
          </tr>
          <tr className="border-t border-rule">
            <th scope="row" className="px-3.5 py-1.5 text-left font-normal">
              with the plan
            </th>
            <td className="px-3.5 py-1.5">{left.after_cpus}</td>
            <td className="px-3.5 py-1.5">{busy(left.after_busy)}</td>
          </tr>
        </tbody>
      </table>
    </section>
  )
}

const marks: Record<string, string> = { bad: 'bad', watch: 'watch', fine: 'info', unknown: 'info' }

function Expected({ plan }: { plan: PinPlan }) {
  return (
    <Sheet title="Had it been so over this span">
      <ul className="px-3.5 py-2">
        {plan.expected.map((v) => (
          <li key={v.verdict + v.cpus} className="py-0.5">
            <span className={`mark-${marks[v.grade]} mr-1.5 inline-block`} aria-hidden />
            <strong className="font-semibold">{v.verdict}</strong>{' '}
            <span className="font-serif">{said(v.sentence)}</span>
          </li>
        ))}
        {plan.notes.map((n) => (
          <li key={n} className="py-0.5 font-serif text-ink-2 first-letter:uppercase">
            {said(n)}.
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

/** Which workload a row is of, and whose it is. */
const named: Column<{ id: number; name: string; tenant: string }>[] = [
  {
    id: 'workload',
    head: 'Workload',
    isHead: true,
    value: (w) => w.name,
    cell: (w) => <WorkloadLink id={w.id} name={w.name} />,
  },
  { id: 'tenant', head: 'Tenant', value: (w) => w.tenant, cell: (w) => shown(w.tenant) },
]

function Gains({ plan }: { plan: PinPlan }) {
  if (plan.holders.length === 0) return null
  return (
    <Sheet title="Who gains">
      <List
        keep="plan-gains"
        name={`gain-by-plan-on-${plan.host}`}
        rows={plan.holders}
        rowKey={(w) => String(w.id)}
        columns={[
          ...named,
          { id: 'may_run', head: 'May run on', value: (w) => w.may_run || 'any' },
          {
            id: 'cpu_seconds',
            head: 'Ran',
            isFigure: true,
            value: (w) => w.cpu_seconds,
            cell: (w) => amountText('cpu', w.cpu_seconds),
          },
          {
            id: 'waited_seconds',
            head: 'Waited for a CPU',
            isFigure: true,
            value: (w) => w.waited_seconds,
            cell: (w) => (w.waited_seconds === null ? '–' : `${w.waited_seconds.toFixed(1)} s`),
          },
          {
            id: 'others_cpu_seconds',
            head: 'Others on the planned CPUs',
            isFigure: true,
            value: (w) => w.others_cpu_seconds,
            cell: (w) => amountText('cpu', w.others_cpu_seconds),
          },
        ]}
      />
    </Sheet>
  )
}

function Movers({ plan }: { plan: PinPlan }) {
  if (plan.movers.length === 0) return null
  return (
    <Sheet title="Who has to move">
      <List
        keep="plan-movers"
        name={`move-by-plan-on-${plan.host}`}
        rows={plan.movers}
        rowKey={(w) => String(w.id)}
        columns={[
          ...named,
          {
            id: 'cpu_seconds',
            head: 'Ran there',
            isFigure: true,
            value: (w) => w.cpu_seconds,
            cell: (w) => amountText('cpu', w.cpu_seconds),
          },
          { id: 'may_run', head: 'May run on', value: (w) => w.may_run || 'any' },
          { id: 'then', head: 'Then', value: (w) => w.then },
          {
            id: 'by_step',
            head: 'Moved by',
            value: (w) => (w.by_step ? 'a step' : 'the kernel, by the partition'),
          },
        ]}
      />
    </Sheet>
  )
}

function Looked({ plan }: { plan: PinPlan }) {
  const { search } = useTime()
  return (
    <Sheet title="Hosts that were looked at, the best first">
      <List
        keep="plan-hosts"
        name="hosts-of-a-plan"
        rows={plan.looked_at}
        rowKey={(h) => h.host}
        columns={[
          {
            id: 'host',
            head: 'Host',
            isHead: true,
            value: (h) => h.host,
            cell: (h) => (
              <Link to="/hosts/$host" params={{ host: h.host }} search={search}>
                {h.host}
              </Link>
            ),
          },
          { id: 'cpus', head: 'CPUs', value: (h) => (h.fits ? h.cpus : null) },
          { id: 'shared_cores', head: 'Cores shared', isFigure: true, value: (h) => (h.fits ? h.shared_cores : null) },
          { id: 'nodes', head: 'Memory nodes', isFigure: true, value: (h) => (h.fits ? h.nodes : null) },
          {
            id: 'moved_cpu_seconds',
            head: 'Work that moves',
            isFigure: true,
            value: (h) => (h.fits ? h.moved_cpu_seconds : null),
            cell: (h) => (h.fits ? amountText('cpu', h.moved_cpu_seconds) : '–'),
          },
          {
            id: 'why',
            head: 'Note',
            value: (h) => h.why || (h.has_holder ? 'the holder is here' : null),
          },
        ]}
      />
    </Sheet>
  )
}
