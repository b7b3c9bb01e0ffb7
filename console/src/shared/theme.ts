import { ref } from 'vue'

const key = 'kembrel-theme'
const system = window.matchMedia('(prefers-color-scheme: dark)')

/** Whether the console is dark now. */
export const dark = ref(false)

/** Follows the person's choice, else the system's. */
export function applyTheme() {
  const chosen = localStorage.getItem(key)
  dark.value = chosen ? chosen === 'dark' : system.matches
  document.documentElement.classList.toggle('dark', dark.value)
}

export function switchTheme() {
  localStorage.setItem(key, dark.value ? 'light' : 'dark')
  applyTheme()
}

system.addEventListener('change', applyTheme)
