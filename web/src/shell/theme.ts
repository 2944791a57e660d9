import type { Choices } from '../api/client'

const key = 'vinescale-theme'

export type Theme = 'light' | 'dark'

/** The theme that was chosen, or else that of the reader's system. */
export function currentTheme(chosen: string): Theme {
  if (chosen === 'light' || chosen === 'dark') return chosen
  return matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
}

/** Puts the theme on the page before it is known who is signed in: the one that was chosen here last. */
export function applyTheme() {
  document.documentElement.dataset.theme = currentTheme(localStorage.getItem(key) ?? '')
}

/** Puts what was chosen of the look on the page. */
export function applyChoices(c: Choices) {
  localStorage.setItem(key, c.theme)
  document.documentElement.dataset.theme = currentTheme(c.theme)
  document.documentElement.dataset.density = c.density || 'airy'
}
