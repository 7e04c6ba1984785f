/** Definitions as texts: one document each. */
export type Document = { kind: string; name: string; text: string }

/** Cuts a text of several definitions apart. What has no kind and name is passed over. */
export function documents(text: string): Document[] {
  const out: Document[] = []
  for (const part of text.split(/^---\s*$/m)) {
    const head = /^([a-z][a-z-]*):\s*["']?([a-z0-9-]+)["']?\s*(?:#.*)?$/m.exec(part.replace(/^\s*#.*$/gm, ''))
    if (head) out.push({ kind: head[1]!, name: head[2]!, text: part.replace(/^\n+/, '').trimEnd() + '\n' })
  }
  return out
}
