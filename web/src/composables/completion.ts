import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import type { Schemas } from '../api/client'
import { placeAt } from './place'

export type Key = Schemas['LanguageKey']
/** What the language itself has of each kind. */
export const builtIn: Names = {
  format: [
    'raw',
    'json',
    'keyvalue',
    'csv',
    'syslog',
    'web-common',
    'web-combined',
    'cef',
    'recognise',
  ],
  mask: [
    'payment-card',
    'iban',
    'email',
    'ipv4',
    'ipv6',
    'phone',
    'jwt',
    'private-key',
    'token',
    'password',
    'mac',
  ],
}

/** Names of definitions by their kind. */
export type Names = Record<string, string[]>

/** Whether a path of the language fits a place of a document. */
export const fits = (pattern: string[], path: string[]) =>
  pattern.length === path.length && pattern.every((p, i) => p === '*' || p === path[i])

const info = (k: Key) =>
  [k.doc, k.default && `Default: ${k.default}.`, k.example && `For example: ${k.example}`]
    .filter(Boolean)
    .join('\n') || undefined

/** Offers keys, choices, names of definitions, labels and references, by what may stand at the place. */
export function completer(
  language: () => Schemas['Language'] | undefined,
  names: () => Names,
  kind: () => string,
) {
  return (context: CompletionContext): CompletionResult | null => {
    const l = language()
    const text = context.state.doc.toString()
    const place = placeAt(text, context.pos)
    if (!l || (!context.explicit && !place.word && !/[{,[: ]$/.test(text.slice(0, context.pos))))
      return null
    const keys = l.kinds.find((k) => k.kind === kind())?.keys ?? []
    const refs = /\$\{([\w.-]*)$/.exec(text.slice(0, context.pos))
    if (refs)
      return { from: context.pos - refs[1]!.length, options: references(l), validFor: /^[\w.-]*$/ }
    const options: Completion[] = []
    if (place.key === undefined) {
      for (const k of keys) {
        const last = k.path[k.path.length - 1]!
        if (last !== '*' && last !== '#' && fits(k.path.slice(0, -1), place.path))
          options.push({
            label: last,
            apply: `${last}: `,
            type: 'property',
            detail: k.need ? 'must be there' : undefined,
            info: info(k),
          })
      }
      if (place.path[0] === 'hosts' || (kind() === 'guard' && place.path[0] === 'sources'))
        for (const k of Object.keys(l.labels))
          options.push({ label: k, apply: `${k}: `, type: 'property', detail: 'label' })
      for (const k of keys)
        if (place.path[place.path.length - 1] === '#' && fits(k.path, place.path))
          options.push(...values(k, names()))
    } else {
      const path = [...place.path, place.key]
      for (const k of keys) if (fits(k.path, path)) options.push(...values(k, names()))
      if (path[0] === 'hosts' && path.length > 1)
        options.push(
          ...(l.labels[path[1]!] ?? []).map((v) => ({
            label: v,
            type: 'constant',
            detail: 'value of hosts',
          })),
        )
      if (path.length === 1 && path[0] === 'hosts') options.push({ label: 'all', type: 'keyword' })
    }
    const seen = new Set<string>()
    const once = options.filter((o) => !seen.has(o.label) && seen.add(o.label))
    return once.length ? { from: place.from, options: once, validFor: /^[\w.-]*$/ } : null
  }
}

function values(k: Key, names: Names): Completion[] {
  if (k.choices) return k.choices.map((c) => ({ label: c, type: 'enum', info: info(k) }))
  if (k.names)
    return (names[k.names] ?? []).map((n) => ({ label: n, type: 'variable', detail: k.names }))
  if (k.type === 'boolean') return ['true', 'false'].map((b) => ({ label: b, type: 'keyword' }))
  return []
}

function references(l: Schemas['Language']): Completion[] {
  return [
    ...l.settings.map((s) => ({ label: `setting.${s}`, apply: `setting.${s}}`, type: 'variable' })),
    ...Object.keys(l.labels).map((s) => ({
      label: `label.${s}`,
      apply: `label.${s}}`,
      type: 'variable',
    })),
    ...l.secrets.map((s) => ({ label: `secret.${s}`, apply: `secret.${s}}`, type: 'variable' })),
    ...['host.name', 'observed.os', 'observed.arch', 'observed.name'].map((s) => ({
      label: s,
      apply: `${s}}`,
      type: 'variable',
    })),
  ]
}
