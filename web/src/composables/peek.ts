import { ref } from 'vue'
import { client, ProblemError, type Problem, type Schemas } from '../api/client'

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
      const {
        data,
        error: problem,
        response,
      } = await client.POST(unmasked ? '/peek/unmasked' : '/peek', {
        body: asked,
        parseAs: 'stream',
        signal: mine.signal,
      })
      if (!response.ok || !data)
        throw new ProblemError(response.status, (problem ?? {}) as Partial<Problem>)
      const lines = (data as ReadableStream<Uint8Array>).getReader()
      const decoder = new TextDecoder()
      let rest = ''
      for (;;) {
        const { done, value } = await lines.read()
        if (done) break
        const all = (rest + decoder.decode(value, { stream: true })).split('\n')
        rest = all.pop() ?? ''
        for (const l of all) if (l) take(JSON.parse(l) as Schemas['PeekEvent'])
      }
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
