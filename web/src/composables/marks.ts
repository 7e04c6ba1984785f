import type { Schemas } from '../api/client'

/** A piece of a text: plain, or masked by a mask. from is its place in bytes. */
export type Piece = { text: string; mask?: string; from: number; to: number }

const encoder = new TextEncoder()
const decoder = new TextDecoder()

/** Cuts a text at marks, whose places are bytes of its UTF-8. Marks that overlap one before are left out. */
export function pieces(
  text: string,
  marks: Pick<Schemas['LogMark'], 'start' | 'end' | 'mask'>[],
): Piece[] {
  const bytes = encoder.encode(text)
  const out: Piece[] = []
  let at = 0
  const put = (to: number, mask?: string) => {
    if (to > at) out.push({ text: decoder.decode(bytes.slice(at, to)), mask, from: at, to })
    at = Math.max(at, to)
  }
  for (const m of [...marks].sort((a, b) => a.start - b.start)) {
    if (m.start < at || m.end > bytes.length) continue
    put(m.start)
    put(m.end, m.mask)
  }
  put(bytes.length)
  return out
}

/** How many bytes the first characters of a text take. */
export const byteLength = (text: string) => encoder.encode(text).length

type Found = Pick<Schemas['PrivateHit'], 'line' | 'start' | 'end' | 'lines'>
type Taken = {
  line: number
  original?: string
  body: string
  private?: { start: number; end: number }[]
}

/**
 * Tells which of the hits in a log no mask takes. A hit has its place in a line, what masks took in the text of a record, which may
 * have several; only the records that are here can be told of.
 */
export function unmasked<H extends Found>(records: Taken[], hits: H[]): H[] {
  const at = new Map<number, { r: Taken; from: number }>()
  for (const r of records) {
    const whole = r.original ?? r.body
    let from = 0
    whole.split('\n').forEach((text, i) => {
      at.set(r.line + i, { r, from })
      from += byteLength(text) + 1
    })
  }
  return hits.filter((h) => {
    const head = at.get(h.line)
    const tail = at.get(h.line + Math.max(h.lines, 1) - 1) ?? head
    if (!head || !tail) return false
    return !(head.r.private ?? []).some(
      (p) => p.start < tail.from + h.end && p.end > head.from + h.start,
    )
  })
}
