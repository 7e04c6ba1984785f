import { ref } from 'vue'

export type Theme = 'system' | 'light' | 'dark'

const kept = localStorage.getItem('synaxis.theme')
export const theme = ref<Theme>(kept === 'light' || kept === 'dark' ? kept : 'system')
const dark = window.matchMedia('(prefers-color-scheme: dark)')

function apply() {
  const isDark = theme.value === 'dark' || (theme.value === 'system' && dark.matches)
  document.documentElement.dataset.theme = isDark ? 'dark' : 'light'
}

export function setTheme(to: Theme) {
  theme.value = to
  localStorage.setItem('synaxis.theme', to)
  apply()
}

export function startTheme() {
  apply()
  dark.addEventListener('change', apply)
}
