import type { Schemas } from '../api/client'

/** A piece of a text: plain, or masked by a mask. from is its place in bytes. */
export type Piece = { text: string; mask?: string; from: number; to: number }

const encoder = new TextEncoder()
const decoder = new TextDecoder()

/** Cuts a text at marks, whose places are bytes of its UTF-8. Marks that overlap one before are left out. */
export function pieces(text: string, marks: Pick<Schemas['LogMark'], 'start' | 'end' | 'mask'>[]): Piece[] {
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
