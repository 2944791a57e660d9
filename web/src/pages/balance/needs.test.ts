import { describe, expect, it } from 'vitest'
import type { Balance, Host, PinAudit, ResourceUse } from '../../api/client'
import { listOf } from '../../figures/text'
import { needsOf, type Need } from './needs'

const text = (n: Need) => n.sentence.map((s) => (typeof s === 'string' ? s : s.bold)).join('')

const use = (over: Partial<ResourceUse>): ResourceUse => ({
  resource: 'cpu',
  used_mean: 1,
  amount: 1,
  peak_minute_mean: 1,
  missing: 0,
  quota: 8,
  soft: null,
  over: false,
  peak_over: false,
  soft_over: false,
  ...over,
})

const balance = (u: ResourceUse): Balance => ({
  from: '',
  to: '',
  host: 'all hosts',
  hosts: 1,
  workloads: 1,
  stands: [],
  allowances: [],
  promised: [],
  short: [],
  tenants: [{ tenant: 'Cellar Intake', colour: 3, workloads: 1, uses: [u] }],
  resources: [
    {
      resource: 'cpu',
      mean_unit: 'cores',
      capacity_mean: 16,
      used_mean: 8,
      kernel_mean: 0,
      steal_mean: 0,
      idle_mean: 8,
      residual_mean: 0,
    },
  ],
})

const pin = (verdict: string, grade: string, seconds: number): PinAudit =>
  ({
    host: 'cellar-1',
    verdict,
    grade,
    holder: 'Bottling Line',
    sentence: `It is ${verdict} for ${seconds} s, which Bottling Line has alone.`,
    verdicts: [{ verdict, cpus: '12', cpu_seconds: seconds, culprits: [{ name: 'is' }] }],
  }) as unknown as PinAudit

describe('what needs you', () => {
  it('tells of pins that were not kept, the gravest and longest first, and not of all', () => {
    const pins = [
      pin('unenforced', 'watch', 0),
      pin('idle', 'watch', 900),
      pin('kept', 'fine', 900),
      pin('intruded', 'bad', 2),
      pin('overlapping', 'bad', 1),
      pin('overlapping', 'bad', 0),
      pin('strayed', 'watch', 4),
      pin('intruded', 'bad', 70),
      pin('absent', 'bad', 0),
    ]
    expect(needsOf(balance(use({})), pins).map((n) => [n.grade, n.host, text(n)])).toEqual([
      ['bad', 'cellar-1', 'It is absent for 0 s, which Bottling Line has alone.'],
      ['bad', 'cellar-1', 'It is intruded for 70 s, which Bottling Line has alone.'],
      ['bad', 'cellar-1', 'It is intruded for 2 s, which Bottling Line has alone.'],
      ['bad', 'cellar-1', 'It is overlapping for 1 s, which Bottling Line has alone.'],
    ])
    expect(needsOf(balance(use({})), [pin('intruded', 'bad', 2)])[0]!.sentence).toEqual([
      'It ',
      { bold: 'is' },
      ' intruded for 2 s, which ',
      { bold: 'Bottling Line' },
      ' has alone.',
    ])
  })
  it('tells of a soft mark, and of a quota that changed, by what was in force', () => {
    const soft = use({ used_mean: 7, soft: 6.5, soft_over: true, peak_over: true })
    expect(needsOf(balance(soft), []).map((n) => [n.grade, text(n)])).toEqual([
      ['watch', 'Cellar Intake used 7.0 of CPU, over its soft mark of 6.5; its quota is 8 cores.'],
    ])
    const watched = use({ used_mean: 7, quota: null, soft: 6, soft_over: true })
    expect(text(needsOf(balance(watched), [])[0]!)).toContain('its quota is none')
    const term = { from: '2026-10-11T10:00:00Z', peak_minute_mean: 9, soft: null, peak_over: true, soft_over: false }
    const terms = [
      { ...term, to: '2026-10-11T11:00:00Z', used_mean: 3, quota: 4, over: false },
      { ...term, to: '2026-10-11T12:00:00Z', used_mean: 5, quota: 4.5, over: true },
    ]
    expect(text(needsOf(balance(use({ over: true, terms })), [])[0]!)).toMatch(
      /^Cellar Intake used 5.0 of 4.5 cores of CPU until .+, over its quota of that time\.$/,
    )
  })
  it('does not call a span without records quiet', () => {
    const needs = needsOf({ ...balance(use({ used_mean: null })), hosts: 0 }, [])
    expect(needs.map(text)).toEqual(['Nothing was recorded in this span: what happened is not known.'])
  })
  it('tells a mean over its quota from a peak over it, and puts trouble first', () => {
    const over = needsOf(balance(use({ used_mean: 9.5, peak_minute_mean: 11, over: true, peak_over: true })), [])
    expect(over.map((n) => [n.grade, text(n)])).toEqual([
      ['bad', 'Cellar Intake used 9.5 of 8 cores of CPU, 1.5 over its quota.'],
    ])
    const peak = needsOf(balance(use({ peak_minute_mean: 9, peak_over: true })), [pin('intruded', 'bad', 5)])
    expect(peak.map((n) => n.grade)).toEqual(['bad', 'watch'])
  })
  it('does not take a figure that is not there for one that is low', () => {
    expect(needsOf(balance(use({ used_mean: null, peak_minute_mean: null })), [])).toEqual([])
  })
  it('tells of hosts that fell silent', () => {
    const host: Host = {
      name: 'press-1',
      cpus: 8,
      memory_bytes: 1,
      cgroup_mode: 'v2',
      pools: [],
      enrolled_at: '',
      last_at: '2026-10-11T12:04:00Z',
      state: 'silent',
    }
    expect(text(needsOf(balance(use({})), [], { hosts: [host], inAll: 1 })[0]!)).toMatch(
      /^press-1 has been silent since /,
    )
  })
  it('tells of the first of many silent hosts, and how many more there are', () => {
    const awaited: Host = {
      name: 'press-2',
      cpus: 0,
      memory_bytes: 0,
      cgroup_mode: '',
      pools: [],
      enrolled_at: '',
      last_at: null,
      state: 'awaited',
    }
    const needs = needsOf(balance(use({})), [], { hosts: [awaited], inAll: 1002 })
    expect(needs.map((n) => [n.grade, text(n)])).toEqual([
      ['bad', '1,001 more hosts do not report.'],
      ['info', 'press-2 is enrolled and has sent nothing yet.'],
    ])
    expect(needsOf(balance(use({})), [], { hosts: [awaited], inAll: 2 }).map(text)).toContain(
      '1 more host does not report.',
    )
  })
  it('writes CPUs as a list', () => {
    expect(listOf([15, 12, 13, 14, 3])).toBe('3, 12–15')
  })
})
