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

/** What changes among choices: some of them, or what follows from those that are kept when it is sent. */
export type Change = Partial<Choices> | ((kept: Choices) => Partial<Choices>)

export const changeOf = (kept: Choices, change: Change): Partial<Choices> =>
  typeof change === 'function' ? change(kept) : change

let chosen = usual
let site = ''

/** How whoever is signed in wants figures shown. Exports keep base units whatever is chosen. */
export const choices = (): Choices => chosen

/** The time zone of whoever chose none: the site's, or that of their own system. */
export const usualZone = (): string => site || (systems ??= Intl.DateTimeFormat().resolvedOptions().timeZone)

/** The zone of the system that the browser runs on: to ask for it at every moment that is shown is slow. */
let systems: string | undefined

/** Whether the site has a time zone of its own. */
export const hasSiteZone = (): boolean => site !== ''

/** Takes over what was chosen, and the site's time zone. The console shows nothing before it has it. */
export function setChoices({ site_zone = '', ...own }: Choices & { site_zone?: string }) {
  chosen = own
  site = site_zone
}
