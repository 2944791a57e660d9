import { momentSeconds } from '../../time/zone'
import type { Balance, Host, PinAudit } from '../../api/client'
import { lasted, limited, quotaFigure, quotaUnit, scopeText } from '../../figures/quotas'
import { moment } from '../../figures/text'
import { figure, inSentence, unitOf, whole, cpusOf } from '../../figures/units'

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

/** What the figures at hand say needs attention: verdicts on pinned CPUs, quotas exceeded, hosts that fell silent. */
export function needsOf(balance: Balance, pins: PinAudit[], unheard?: Unheard): Need[] {
  const needs = [
    ...unrecorded(balance),
    ...pinned(pins),
    ...quotas(balance),
    ...hurting(balance),
    ...allowances(balance),
    ...(unheard ? silent(unheard) : []),
  ]
  return needs.sort((a, b) => order[a.grade] - order[b.grade])
}

function unrecorded(balance: Balance): Need[] {
  if (balance.hosts > 0) return []
  return [
    { grade: 'info', sentence: ['Nothing was recorded in this span: what happened is not known.'], class: 'Records' },
  ]
}

/** How many declarations of CPUs are told of, the gravest first. */
const pinsShown = 4

/** Verdicts that an administrator is told of unasked. What is only not enforced, or built so, can be looked up. */
const told = ['absent', 'intruded', 'overlapping', 'strayed', 'sibling', 'squeezing', 'idle']

function pinned(pins: PinAudit[]): Need[] {
  const worth = pins.filter((p) => told.includes(p.verdict))
  worth.sort(
    (a, b) =>
      told.indexOf(a.verdict) - told.indexOf(b.verdict) ||
      (b.verdicts[0]?.cpu_seconds ?? 0) - (a.verdicts[0]?.cpu_seconds ?? 0),
  )
  const overlaps = new Set<string>() // of two declarations that overlap, one is told of
  const each = worth.filter((p) => {
    if (p.verdict !== 'overlapping') return true
    const key = `${p.host} ${p.verdicts[0]?.cpus}`
    return !overlaps.has(key) && overlaps.add(key)
  })
  return each.slice(0, pinsShown).map((p) => ({
    grade: p.grade === 'bad' ? 'bad' : 'watch',
    sentence: emphasized(p.sentence, [p.holder, ...(p.verdicts[0]?.culprits ?? []).map((c) => c.name)]),
    class: `Pinned CPUs, ${p.verdict}`,
    host: p.host,
  }))
}

/** A sentence in parts, the names in it bold. */
function emphasized(sentence: string, names: string[]): Need['sentence'] {
  const found = names.filter((n) => n !== '' && sentence.includes(n)).sort((a, b) => b.length - a.length)
  const first = found[0]
  if (first === undefined) return [sentence]
  const rest = found.slice(1)
  return sentence
    .split(first)
    .flatMap((part, i) => (i === 0 ? emphasized(part, rest) : [{ bold: first }, ...emphasized(part, rest)]))
    .filter((part) => part !== '')
}

/** Quotas that were exceeded while somebody else waited. */
function hurting(balance: Balance): Need[] {
  return balance.stands
    .filter((s) => s.hurt.length > 0)
    .map((s) => {
      const victim = s.hurt[0]!
      const more = s.hurt.length > 1 ? `, and ${s.hurt.length - 1} more` : ''
      return {
        grade: 'bad',
        sentence: [
          { bold: s.tenant },
          ` was above its quota of ${limited(s.resource)} on ${scopeText(s.scope_kind, s.scope)} for ${lasted(s.exceeded?.minutes ?? 0)}; meanwhile `,
          { bold: `${victim.name} of ${victim.tenant}` },
          ` waited ${Math.round(victim.waited_seconds).toLocaleString('en')} s on ${victim.host}${more}.`,
        ],
        class: 'Quota exceeded, others waited',
        tenant: s.tenant,
      }
    })
}

function allowances(balance: Balance): Need[] {
  return balance.allowances.flatMap((a): Need[] => {
    const unit = quotaUnit(a.resource, a.unit, a.amount)
    const of = `${quotaFigure(a.amount, unit)} of ${limited(a.resource)} for this ${a.window.includes(' ') ? 'window' : a.window}`
    if (a.state === 'exhausted')
      return [
        {
          grade: 'bad',
          sentence: [{ bold: a.tenant }, ` has spent its ${of}: ${quotaFigure(a.spent, unit)}.`],
          class: 'Allowance exhausted',
          tenant: a.tenant,
        },
      ]
    if (a.state === 'running_out' && a.runs_out)
      return [
        {
          grade: 'watch',
          sentence: [
            { bold: a.tenant },
            ` will have spent its ${of} on ${moment(a.runs_out)}, before that ends on ${moment(a.to)}: ${quotaFigure(a.left, unit)} are left.`,
          ],
          class: 'Allowance running out',
          tenant: a.tenant,
        },
      ]
    return []
  })
}

function quotas(balance: Balance): Need[] {
  return balance.tenants.flatMap((t) =>
    t.uses.flatMap((u, i): Need[] => {
      const resource = u.resource
      const capacity = balance.resources[i]?.capacity_mean ?? null
      const unit = unitOf(resource, capacity, cpusOf('all hosts', capacity))
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
        : ` has been silent since ${momentSeconds(h.last_at)}.`,
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
