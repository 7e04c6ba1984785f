import type { Key, Names } from './completion'

/** A place of the language as a form shows it, with the forms that it may have. */
export type Branch = { name: string; forms: Key[]; children: Branch[]; item?: Branch; any?: Branch }

/** Makes the flat list of keys into a tree. */
export function tree(keys: Key[]): Branch {
  const root: Branch = { name: '', forms: [], children: [] }
  for (const k of keys) {
    let at = root
    for (const [i, p] of k.path.entries()) {
      let next = p === '#' ? at.item : p === '*' ? at.any : at.children.find((c) => c.name === p)
      if (!next) {
        next = { name: p, forms: [], children: [] }
        if (p === '#') at.item = next
        else if (p === '*') at.any = next
        else at.children.push(next)
      }
      if (i === k.path.length - 1) next.forms.push(k)
      at = next
    }
  }
  return root
}

export type Value = string | boolean | null | Value[] | { [key: string]: Value }

/** What a component gets that shows one place of a form. */
export type FieldProps = {
  of: Branch
  value: Value | undefined
  path: string[]
  names: Names
  label: string
  removable?: boolean
}

/** What an input holds, as the value that is written: numbers where numbers are due. */
export function typed(text: string, forms: Key[]): string | number | boolean | null {
  if (text === '') return null
  const types = forms.map((f) => f.type)
  if (types.includes('boolean') && (text === 'true' || text === 'false')) return text === 'true'
  if (
    (types.includes('integer') || types.includes('number') || types.includes('any')) &&
    /^-?\d+(\.\d+)?$/.test(text)
  )
    return Number(text)
  return text
}

/** Tells whether a value is neither a list nor a map. */
export const simple = (v: Value) => v === null || typeof v !== 'object'
