import { ref, watchEffect } from 'vue'

const stored = localStorage.getItem('undertide.theme')
const dark = ref(stored ? stored === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

watchEffect(() => document.documentElement.classList.toggle('dark', dark.value))

/** Light or dark; the system's wish until somebody chooses. */
export function useTheme() {
  function toggle() {
    dark.value = !dark.value
    localStorage.setItem('undertide.theme', dark.value ? 'dark' : 'light')
  }
  return { dark, toggle }
}
