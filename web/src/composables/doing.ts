import { ref } from 'vue'

/** Does something once at a time, and keeps in words why it failed. */
export function useDoing() {
  const busy = ref(false)
  const error = ref('')
  async function doing(what: () => Promise<unknown>): Promise<boolean> {
    if (busy.value) return false
    busy.value = true
    error.value = ''
    try {
      await what()
      return true
    } catch (e) {
      error.value = e instanceof Error ? e.message : String(e)
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, error, doing }
}
