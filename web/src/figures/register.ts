import type { Measure } from '../api/client'

let entries = new Map<string, Measure>()

/** Takes over the service's register of measures. The console shows nothing before it has it. */
export function setRegister(measures: Measure[]) {
  entries = new Map(measures.map((m) => [m.name, m]))
}

/** What the register says of a measure; of one that it does not hold, what its name says. */
export function entry(name: string): Measure {
  return entries.get(name) ?? { ...unknown, name, title: name, mean_unit: '', unit: '' }
}

/** The names of the resources that some host tells of, in the order they are shown. */
export function resources(): string[] {
  return [...entries.values()].filter((m) => m.has_ledger && m.is_told).map((m) => m.name)
}

/** The figures of a kind of hosts' parts, such as drives, in the order they are shown; none where no host has any. */
export function partFigures(of: string): string[] {
  return [...entries.values()].filter((m) => m.part === of && m.is_told).map((m) => m.name)
}

/** Tells whether some host tells of a resource; one that none has takes no place. */
export function isTold(of: { resource: string }): boolean {
  return entry(of.resource).is_told
}

const unknown: Measure = {
  name: '',
  title: '',
  meaning: '',
  resource: '',
  has_ledger: false,
  unit: '',
  mean_unit: '',
  amount_field: '',
  mean_field: '',
  steps: 'plain',
  in_bits: false,
  manner: 'flow',
  over_time: 'sum',
  over_workloads: 'sum',
  over_hosts: 'sum',
  bound: 'none',
  form: 'line',
  is_told: true,
  units_per_amount: 1,
}
