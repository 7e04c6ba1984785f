import { onUnmounted, ref } from 'vue'
import { queryClient } from '../api/client'

/** What each topic of the stream makes stale. */
const stale: Record<string, string[]> = {
  hosts: ['hosts', 'host', 'status', 'join-tokens', 'audit'],
  numbers: ['hosts', 'host', 'status'],
  notices: ['notices'],
  drafts: ['drafts', 'draft', 'status', 'audit'],
  secrets: ['secrets', 'language', 'audit'],
  revisions: ['revisions', 'catalogue', 'status', 'drafts'],
  rollouts: ['rollouts', 'rollout', 'status', 'hosts', 'host'],
}

/**
 * Follows the service's events and keeps every page fresh. `live` is false while the stream is cut off. Only a page that
 * is looked at holds a stream: without TLS a browser opens six connections to a service, for all of its tabs together.
 */
export function useEvents() {
  const live = ref(true)
  const waiting = new Set<string>()
  let timer: number | undefined
  let source: EventSource | undefined

  function changed(e: MessageEvent<string>) {
    for (const key of stale[(JSON.parse(e.data) as { topic: string }).topic] ?? []) waiting.add(key)
    timer ??= window.setTimeout(() => {
      timer = undefined
      for (const key of waiting) void queryClient.invalidateQueries({ queryKey: [key] })
      waiting.clear()
    }, 400)
  }

  function open() {
    if (source) return
    source = new EventSource('/api/v1/events')
    source.addEventListener('ready', () => {
      live.value = true
      void queryClient.invalidateQueries() // something may have happened meanwhile
    })
    source.addEventListener('error', () => (live.value = false))
    source.addEventListener('changed', changed)
  }

  function close() {
    source?.close()
    source = undefined
  }

  const look = () => (document.visibilityState === 'visible' ? open() : close())
  document.addEventListener('visibilitychange', look)
  window.addEventListener('pagehide', close) // a page that the browser keeps for going back must not hold it either
  window.addEventListener('pageshow', look)
  look()

  onUnmounted(() => {
    document.removeEventListener('visibilitychange', look)
    window.removeEventListener('pagehide', close)
    window.removeEventListener('pageshow', look)
    close()
    window.clearTimeout(timer)
  })
  return { live }
}
