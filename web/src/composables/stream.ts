import { ProblemError, type Problem } from '../api/client'

/** Reads a stream of events, one JSON object a line, until it ends or is cut off. */
export async function events<E>(
  call: Promise<{ data?: unknown; error?: unknown; response: Response }>,
  take: (e: E) => void,
) {
  const { data, error, response } = await call
  if (!response.ok || !data)
    throw new ProblemError(response.status, (error ?? {}) as Partial<Problem>)
  const lines = (data as ReadableStream<Uint8Array>).getReader()
  const decoder = new TextDecoder()
  let rest = ''
  for (;;) {
    const { done, value } = await lines.read()
    if (done) return
    const all = (rest + decoder.decode(value, { stream: true })).split('\n')
    rest = all.pop() ?? ''
    for (const l of all) if (l) take(JSON.parse(l) as E)
  }
}
