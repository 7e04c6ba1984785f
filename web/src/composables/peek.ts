import { ref } from 'vue'
import { client, type Schemas } from '../api/client'
import { events } from './stream'

export type Seen = Schemas['PeekEvent'] & { n: number; record: Schemas['TriedRecord'] }

/** How many records are kept in sight; older ones go. */
const most = 200

/** A look at records as they come. It ends with the page. */
export function usePeek() {
  const begin = ref<Schemas['PeekEvent']>()
  const end = ref<Schemas['PeekEvent']>()
  const records = ref<Seen[]>([])
  const gone = ref<string[]>([])
  const error = ref('')
  const running = ref(false)
  let reader: AbortController | undefined
  let n = 0

  function take(e: Schemas['PeekEvent']) {
    if (e.kind === 'begin') begin.value = e
    else if (e.kind === 'end') end.value = e
    else if (e.kind === 'host') gone.value.push(e.reason ?? '')
    else if (e.record) {
      records.value.unshift({ ...e, record: e.record, n: ++n })
      if (records.value.length > most) records.value.length = most
    }
  }

  async function start(asked: Schemas['PeekRequest'], unmasked: boolean) {
    stop()
    begin.value = end.value = undefined
    records.value = []
    gone.value = []
    error.value = ''
    running.value = true
    const mine = (reader = new AbortController())
    try {
      await events<Schemas['PeekEvent']>(
        client.POST(unmasked ? '/peek/unmasked' : '/peek', {
          body: asked,
          parseAs: 'stream',
          signal: mine.signal,
        }),
        take,
      )
    } catch (e) {
      if (!mine.signal.aborted) error.value = e instanceof Error ? e.message : String(e)
    } finally {
      if (reader === mine) running.value = false
    }
  }
  function stop() {
    reader?.abort()
    reader = undefined
    running.value = false
  }
  return { begin, end, records, gone, error, running, start, stop }
}
