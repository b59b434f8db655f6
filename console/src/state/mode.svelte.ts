// Light or dark: the system's, unless the person chose.

const KEPT = 'cairnwind-mode'
const system = matchMedia('(prefers-color-scheme: dark)')

export const mode = $state({ dark: (localStorage.getItem(KEPT) ?? (system.matches ? 'dark' : 'light')) === 'dark' })

export function apply(): void {
  document.documentElement.dataset.mode = mode.dark ? 'dark' : 'light'
}

export function toggle(): void {
  mode.dark = !mode.dark
  localStorage.setItem(KEPT, mode.dark ? 'dark' : 'light')
  apply()
}

system.addEventListener('change', (event) => {
  if (localStorage.getItem(KEPT) !== null) return
  mode.dark = event.matches
  apply()
})
