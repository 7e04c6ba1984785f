import { isMap, isScalar, parseAllDocuments } from 'yaml'

/** Definitions as texts: one document each. */
export type Document = { kind: string; name: string; text: string }

/** Cuts a text of several definitions apart. What does not begin with a kind and a name is passed over. */
export function documents(text: string): Document[] {
  const out: Document[] = []
  let from = 0
  for (const doc of parseAllDocuments(text, { strict: false })) {
    if (!('range' in doc)) break // nothing in it
    const end = doc.range[2]
    const part = text.slice(from, end)
    from = end
    const head = isMap(doc.contents) ? doc.contents.items[0] : undefined
    if (!head || !isScalar(head.key) || !isScalar(head.value)) continue
    const own = part.replace(/^---.*\n/, '').replace(/\n\.\.\.\s*$/, '\n')
    out.push({
      kind: String(head.key.value),
      name: String(head.value.value),
      text: own.replace(/^\n+/, '').trimEnd() + '\n',
    })
  }
  return out
}
