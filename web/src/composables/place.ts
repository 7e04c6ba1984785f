/** Where in a YAML document something stands: keys, and '#' for an item of a list. */
export type Place = { path: string[]; key?: string; from: number; word: string }

const keyOf = /^(?:- +)*(?:"([^"]*)"|'([^']*)'|([^\s:#{}[\],"'][^:#{}[\],]*?)) *:(?= |$)/

/** The key that a line sets, how far it is indented, and the columns of the dashes before it. */
function read(line: string) {
  const indent = line.length - line.trimStart().length
  const rest = line.slice(indent)
  const dashes: number[] = []
  let at = 0
  while (rest.slice(at, at + 2) === '- ' || (rest.slice(at) === '-' && rest.length === at + 1)) {
    dashes.push(indent + at)
    at += 1
    while (rest[at] === ' ') at++
  }
  const m = keyOf.exec(rest.slice(at))
  return {
    dashes,
    column: indent + at,
    key: m ? (m[1] ?? m[2] ?? m[3] ?? '').trim() : undefined,
    blank: rest.trim() === '' || rest.startsWith('#'),
  }
}

/** Finds the place of a position. Flow maps and lists are followed within their line. */
export function placeAt(text: string, position: number): Place {
  const before = text.slice(0, position).split('\n')
  const current = before.pop() ?? ''
  const word = /[\w.${}-]*$/.exec(current)?.[0] ?? ''
  const path: string[] = []
  let limit = current.trim() === '' ? current.length : 0
  const own = read(current)
  if (!own.blank) {
    limit = own.dashes[0] ?? own.column
    own.dashes.forEach(() => path.unshift('#'))
  }
  for (let i = before.length - 1; i >= 0 && limit > 0; i--) {
    const l = read(before[i]!)
    if (l.blank) continue
    if (l.key !== undefined && l.column < limit) {
      path.unshift(l.key)
      limit = l.column
    } else if (l.key !== undefined && l.column === limit && l.dashes.length && !own.dashes.length) {
      limit = l.dashes[0]!
      path.unshift('#')
      continue
    }
    for (const d of [...l.dashes].reverse()) {
      if (d < limit) {
        path.unshift('#')
        limit = d
      }
    }
  }
  // A list may stand under its key without being indented.
  if (own.dashes.length && limit === 0 && path[0] === '#') {
    for (let i = before.length - 1; i >= 0; i--) {
      const l = read(before[i]!)
      if (!l.blank && l.key !== undefined && !l.dashes.length && l.column === 0) {
        path.unshift(l.key)
        break
      }
    }
  }
  return flow(current, own, path, position - word.length, word)
}

function flow(
  current: string,
  own: ReturnType<typeof read>,
  path: string[],
  from: number,
  word: string,
): Place {
  const rest = current.slice(own.column)
  let key = own.key
  const stack: { list: boolean; had?: string }[] = []
  let start = 0
  let quote = ''
  for (let i = 0; i < rest.length; i++) {
    const c = rest[i]!
    if (quote) {
      if (c === quote) quote = ''
    } else if ((c === '"' || c === "'") && /[\s{[,:]/.test(rest[i - 1] ?? ' ')) quote = c
    else if (c === '{' || c === '[') {
      if (key !== undefined) path.push(key)
      if (c === '[') path.push('#')
      stack.push({ list: c === '[', had: key })
      key = undefined
      start = i + 1
    } else if ((c === '}' || c === ']') && stack.length) {
      const s = stack.pop()!
      if (s.list) path.pop()
      if (s.had !== undefined) path.pop()
      key = s.had
    } else if (c === ',' && stack.length) {
      key = undefined
      start = i + 1
    } else if (c === ':' && stack.length && /[\s]|$/.test(rest[i + 1] ?? ' '))
      key = rest.slice(start, i).trim()
  }
  return { path, key, from, word }
}
