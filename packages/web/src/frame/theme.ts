import { create } from 'zustand'

export type Theme = 'light' | 'dark' | 'as the system'

const KEY = 'theme'
const system = window.matchMedia('(prefers-color-scheme: dark)')

function apply(theme: Theme): void {
  const dark = theme === 'dark' || (theme === 'as the system' && system.matches)
  document.documentElement.dataset.theme = dark ? 'dark' : 'light'
}

export const useTheme = create<{ theme: Theme }>(() => ({
  theme: (localStorage.getItem(KEY) as Theme) ?? 'as the system',
}))

export function setTheme(theme: Theme): void {
  localStorage.setItem(KEY, theme)
  useTheme.setState({ theme })
  apply(theme)
}

/** Called once, before the first paint. */
export function beginTheme(): void {
  apply(useTheme.getState().theme)
  system.addEventListener('change', () => apply(useTheme.getState().theme))
}
