import type { Act, ActToRequest } from '../../api/client'

/** What an act may be aimed at from a page: a workload by its number, or processes and units of a host. */
export type Aim =
  | { form: 'workload'; id: number; name: string; kind: string; host: string }
  | { form: 'process' | 'family'; pid: number; name: string; host: string }
  | { form: 'unit'; unit: string; name: string; host: string }
  | { form: 'gpu'; gpu: string; name: string; host: string }
  | { form: 'act'; act: string; name: string; host: string }

/** The unit of a service of a host's init system; undefined for what is none. */
export function unitOf(w: { kind: string; host: string; facts: Record<string, string> }): Aim | undefined {
  const unit = w.kind === 'service' ? w.facts.unit : undefined
  return unit ? { form: 'unit', unit, name: `unit ${unit}`, host: w.host } : undefined
}

/** What acts are called on buttons. */
const words: Record<string, string> = {
  end: 'End',
  pause: 'Pause',
  continue: 'Continue',
  weigh: 'Weigh',
  cap: 'Limit',
  place: 'Place on CPUs',
  start: 'Start',
  restart: 'Restart',
  reload: 'Reload',
  'at-boot': 'Begin at boot',
  hold: 'Hold',
  release: 'Let go',
  message: 'Write to its terminal',
  look: 'Look closer',
  read: 'Read its last lines',
  power: 'Limit the power',
  admit: 'Say who may compute',
  undo: 'Undo',
  note: 'Noted',
}

export const verbWords = (verb: string): string => words[verb] ?? verb

/** The acts that make sense for a target, in the order in which they are offered. */
export function verbsFor(aim: Aim): string[] {
  switch (aim.form) {
    case 'workload': {
      const own = aim.kind === 'session' ? ['message'] : []
      const writes = ['container', 'service', 'job'].includes(aim.kind ?? '') ? ['read'] : []
      return [...writes, 'pause', 'continue', 'weigh', 'cap', 'place', ...own, 'end']
    }
    case 'process':
      return ['look', 'pause', 'continue', 'weigh', 'place', 'end']
    case 'family':
      return ['pause', 'continue', 'weigh', 'cap', 'place', 'end']
    case 'unit':
      return ['read', 'start', 'restart', 'reload', 'at-boot', 'end']
    case 'gpu':
      return ['power', 'admit']
    case 'act':
      return ['undo']
  }
}

/** The acts on a target, and on what stands beside it: what both can, reading what was written, is offered once. */
export function offersOf(aim: Aim, beside?: Aim): { aim: Aim; verbs: string[] }[] {
  if (!beside) return [{ aim, verbs: verbsFor(aim) }]
  return [
    { aim, verbs: verbsFor(aim).filter((v) => v !== 'read') },
    { aim: beside, verbs: verbsFor(beside) },
  ]
}

/** The request of an act. Settings that were left empty are left out. */
export function requestOf(aim: Aim, verb: string, settings: Record<string, string>, reason: string): ActToRequest {
  const given = Object.fromEntries(
    Object.entries(settings)
      .map(([k, v]) => [k, v.trim()] as const)
      .filter(([, v]) => v !== ''),
  )
  const body = { verb, settings: given, reason: reason.trim() }
  switch (aim.form) {
    case 'workload':
      return { ...body, workload: aim.id, target: { form: 'workload' } }
    case 'unit':
      return { ...body, host: aim.host, target: { form: 'unit', unit: aim.unit } }
    case 'gpu':
      return { ...body, host: aim.host, target: { form: 'gpu', gpu: aim.gpu } }
    case 'act':
      return { ...body, target: { form: 'act', act: aim.act } }
    default:
      return { ...body, host: aim.host, target: { form: aim.form, pid: aim.pid } }
  }
}

/** Whether an act is on its way still. */
export const isUnderWay = (a: Act): boolean => ['asked', 'confirmed', 'sent'].includes(a.state)

/** Whether an act came to what it was to, or what is wrong with it. */
export const isWell = (a: Act): boolean => ['done', 'previewed', 'asked', 'confirmed', 'sent'].includes(a.state)

/** What the button that carries an act out says: it names what is hit. */
export function confirmWords(a: Act): string {
  const n = a.preview?.processes_total ?? 0
  const verb = verbWords(a.verb)
  if (a.verb === 'undo') return 'Put it back'
  if (n > 1) return `${verb} (${n.toLocaleString('en')} processes)`
  if (n === 1) return `${verb} process ${a.preview?.processes[0]?.pid ?? ''}`.trim()
  return verb
}
