const key = 'vinescale-theme'

export type Theme = 'light' | 'dark'

export function currentTheme(): Theme {
  const kept = localStorage.getItem(key)
  if (kept === 'light' || kept === 'dark') return kept
  return matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
}

/** Puts the theme on the page, keeping it when one is given. */
export function applyTheme(theme?: Theme) {
  if (theme) localStorage.setItem(key, theme)
  document.documentElement.dataset.theme = theme ?? currentTheme()
}
