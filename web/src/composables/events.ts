import { onUnmounted, ref } from 'vue'
import { queryClient } from '../api/client'

/** What each topic of the stream makes stale. */
const stale: Record<string, string[]> = {
  hosts: ['hosts', 'host', 'status'],
  numbers: ['hosts', 'host', 'status'],
  drafts: ['drafts', 'draft', 'status'],
  revisions: ['revisions', 'catalogue', 'status', 'drafts'],
  rollouts: ['rollouts', 'rollout', 'status', 'hosts', 'host'],
}

/** Follows the service's events and keeps every page fresh. `live` is false while the stream is cut off. */
export function useEvents() {
  const live = ref(true)
  const waiting = new Set<string>()
  let timer: number | undefined
  const source = new EventSource('/api/v1/events')
  source.addEventListener('ready', () => {
    live.value = true
    void queryClient.invalidateQueries()
  })
  source.addEventListener('error', () => (live.value = false))
  source.addEventListener('changed', (e) => {
    for (const key of stale[(JSON.parse(e.data) as { topic: string }).topic] ?? []) waiting.add(key)
    timer ??= window.setTimeout(() => {
      timer = undefined
      for (const key of waiting) void queryClient.invalidateQueries({ queryKey: [key] })
      waiting.clear()
    }, 400)
  })
  onUnmounted(() => {
    source.close()
    window.clearTimeout(timer)
  })
  return { live }
}
