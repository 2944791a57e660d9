import type { Machine } from '../../api/client'
import { moment } from '../../figures/text'
import { amountText, meanText } from '../../figures/units'

/** What is known of a machine, line by line, with the reason where it is not. */
export function machineLines(m: Machine): [what: string, text: string, why?: string][] {
  return [
    ...m.facts.map((f): [string, string, string?] => [f.what, f.text ?? '', f.unavailable]),
    ['memory modules', modules(m), m.memory_modules_unavailable],
    [
      'drives',
      m.devices
        .filter((d) => d.kind === 'drive')
        .map((d) => [d.name, amountText('disk', d.size_bytes), d.model].filter(Boolean).join(' '))
        .join('; ') || 'none',
    ],
    ['swap', m.swaps.map((s) => `${s.name} of ${meanText('memory', s.size_bytes)}`).join('; ') || 'none'],
    ['GPUs', m.gpus.join(', ') || 'none'],
    ['failed', m.failed.join(', ') || 'nothing', m.failed_unavailable],
    [
      'stuck',
      m.stuck.map((u) => `${u.name} ${u.state} since ${moment(u.since)}`).join(', ') || 'nothing',
      m.failed_unavailable,
    ],
  ]
}

/** Modules of one kind together: how many slots are filled, and with what. */
function modules(m: Machine): string {
  const kinds = new Map<string, number>()
  let empty = 0
  for (const x of m.memory_modules) {
    if (x.size_bytes === 0) {
      empty++
      continue
    }
    const rate = x.megatransfers_per_second ? `at ${x.megatransfers_per_second} MT/s` : ''
    const kind = [meanText('memory', x.size_bytes), x.type, x.form, x.maker, x.part, rate].filter(Boolean).join(' ')
    kinds.set(kind, (kinds.get(kind) ?? 0) + 1)
  }
  const parts = [...kinds].map(([kind, n]) => `${n} of ${kind}`)
  if (empty > 0) parts.push(`${empty} ${empty === 1 ? 'slot' : 'slots'} empty`)
  return parts.join('; ')
}
