import type { Balance, Host, PinnedCPU } from '../../api/client'
import { listOf, moment } from '../../figures/text'
import { figure, inSentence, unitOf, whole } from '../../figures/units'

/** One thing that wants an administrator: a sentence of plain and bold parts, its class, and where to look. */
export type Need = {
  grade: 'bad' | 'watch' | 'info'
  sentence: (string | { bold: string })[]
  class: string
  host?: string
  tenant?: string
}

/** The first of the hosts that do not report, and how many there are. */
export type Unheard = { hosts: Host[]; inAll: number }

const order = { bad: 0, watch: 1, info: 2 }

/** What the figures at hand say needs attention: work on others' pinned CPUs, quotas exceeded, hosts that fell silent. */
export function needsOf(balance: Balance, pins: PinnedCPU[], unheard?: Unheard): Need[] {
  const needs = [...unrecorded(balance), ...intruders(pins), ...quotas(balance), ...(unheard ? silent(unheard) : [])]
  return needs.sort((a, b) => order[a.grade] - order[b.grade])
}

function unrecorded(balance: Balance): Need[] {
  if (balance.hosts > 0) return []
  return [
    { grade: 'info', sentence: ['Nothing was recorded in this span: what happened is not known.'], class: 'Records' },
  ]
}

function intruders(pins: PinnedCPU[]): Need[] {
  const groups = new Map<string, { pin: PinnedCPU; cpus: number[]; seconds: number; workload: string }>()
  for (const pin of pins) {
    for (const run of pin.ran) {
      if (run.tenant === pin.tenant || run.cpu_seconds < 1) continue
      const key = [pin.host, pin.tenant, run.workload].join('\n')
      const g = groups.get(key) ?? { pin, cpus: [], seconds: 0, workload: run.workload }
      g.cpus.push(pin.cpu)
      g.seconds += run.cpu_seconds
      groups.set(key, g)
    }
  }
  const all = [...groups.values()].sort((a, b) => b.seconds - a.seconds)
  return all.slice(0, 3).map((g) => ({
    grade: 'bad',
    sentence: [
      { bold: g.workload },
      ` ran on ${g.cpus.length === 1 ? 'CPU' : 'CPUs'} ${listOf(g.cpus)} of `,
      { bold: g.pin.host },
      ', declared for ',
      { bold: g.pin.tenant },
      `: ${Math.round(g.seconds).toLocaleString('en')} CPU-seconds in the span.`,
    ],
    class: 'Others on pinned CPUs',
    host: g.pin.host,
  }))
}

function quotas(balance: Balance): Need[] {
  return balance.tenants.flatMap((t) =>
    t.uses.flatMap((u, i): Need[] => {
      const resource = u.resource
      const unit = unitOf(resource, balance.resources[i]?.capacity_mean ?? null)
      const what = inSentence(resource)
      if (u.used_mean === null || u.peak_minute_mean === null) return []
      const limit = u.quota === null ? 'none' : `${whole(u.quota, unit)} ${unit.name}`
      const then = u.terms?.find((term) => term.over)
      if (then)
        return [
          {
            grade: 'bad',
            sentence: [
              { bold: t.tenant },
              ` used ${figure(then.used_mean!, unit)} of ${whole(then.quota!, unit)} ${unit.name} of ${what} until ${moment(then.to)}, over its quota of that time.`,
            ],
            class: 'Over quota',
            tenant: t.tenant,
          },
        ]
      if (u.over)
        return [
          {
            grade: 'bad',
            sentence: [
              { bold: t.tenant },
              ` used ${figure(u.used_mean, unit)} of ${limit} of ${what}, ${figure(u.used_mean - (u.quota ?? 0), unit)} over its quota.`,
            ],
            class: 'Over quota',
            tenant: t.tenant,
          },
        ]
      if (u.soft_over && u.soft !== null)
        return [
          {
            grade: 'watch',
            sentence: [
              { bold: t.tenant },
              ` used ${figure(u.used_mean, unit)} of ${what}, over its soft mark of ${whole(u.soft, unit)}; its quota is ${limit}.`,
            ],
            class: 'Over soft mark',
            tenant: t.tenant,
          },
        ]
      if (u.peak_over)
        return [
          {
            grade: 'watch',
            sentence: [
              { bold: t.tenant },
              ` reached ${figure(u.peak_minute_mean, unit)} of ${limit} of ${what} in its highest minute.`,
            ],
            class: 'Peak over quota',
            tenant: t.tenant,
          },
        ]
      return []
    }),
  )
}

function silent({ hosts, inAll }: Unheard): Need[] {
  const needs = hosts.map((h): Need => ({
    grade: h.state === 'silent' ? 'bad' : 'info',
    sentence: [
      { bold: h.name },
      h.last_at === null
        ? ' is enrolled and has sent nothing yet.'
        : ` has been silent since ${new Date(h.last_at).toLocaleString('en-GB')}.`,
    ],
    class: 'Host',
    host: h.name,
  }))
  const more = inAll - hosts.length
  if (more > 0)
    needs.push({
      grade: 'bad',
      sentence: [`${more.toLocaleString('en')} more ${more === 1 ? 'host does' : 'hosts do'} not report.`],
      class: 'Host',
    })
  return needs
}
