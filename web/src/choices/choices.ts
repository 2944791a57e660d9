import type { Choices } from '../api/client'

/** What whoever has chosen nothing sees. */
export const usual: Choices = {
  bytes: '',
  network: '',
  cpu: '',
  decimals: null,
  zone: '',
  clock: '',
  theme: '',
  density: '',
  lines: '',
  pace: 0,
  first: '',
}

let chosen = usual

/** How whoever is signed in wants figures shown. Exports keep base units whatever is chosen. */
export const choices = (): Choices => chosen

/** Takes over what was chosen. The console shows nothing before it has it. */
export function setChoices(c: Choices) {
  chosen = c
}
