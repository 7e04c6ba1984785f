import { describe, expect, it } from 'vitest'
import type { CompletionContext } from '@codemirror/autocomplete'
import type { Schemas } from '../api/client'
import { completer, fits } from './completion'
import { cell, hostList } from './csv'
import { sentence } from './format'
import { placeAt } from './place'
import { tree, typed } from './tree'

/** The place of | in a text. */
function at(text: string) {
  const i = text.indexOf('|')
  const p = placeAt(text.slice(0, i) + text.slice(i + 1), i)
  return { path: p.path.join('.'), key: p.key, word: p.word }
}

describe('placeAt', () => {
  const cases: [string, string, string | undefined][] = [
    ['|', '', undefined],
    ['sou|', '', undefined],
    ['source: x\nho|', '', undefined],
    ['source: x\nformat: ra|', '', 'format'],
    ['source: x\nread:\n  fi|', 'read', undefined],
    ['read:\n  syslog:\n    listen:\n      po|', 'read.syslog.listen', undefined],
    ['read:\n  files: []\nfo|', '', undefined],
    ['steps:\n  - dr|', 'steps.#', undefined],
    ['steps:\n  - drop: x\n  - ma|', 'steps.#', undefined],
    ['steps:\n  - parse:\n      fr|', 'steps.#.parse', undefined],
    ['steps:\n- drop: x\n- ma|', 'steps.#', undefined],
    ['send:\n  - {to: wa|', 'send.#', 'to'],
    ['send:\n  - {to: watch-desk, wh|', 'send.#', undefined],
    ['send: [{to: a}, {ot|', 'send.#', undefined],
    ['hosts: {si|', 'hosts', undefined],
    ['hosts: {role: gate, site: [nor|', 'hosts.site.#', undefined],
    ['samples:\n  - {line: "a: {b", gi|', 'samples.#', undefined],
    ['read:\n  # a remark\n\n  fi|', 'read', undefined],
    ['read:\n  |', 'read', undefined],
    ['a: {b: {c: d}, e|', 'a', undefined],
  ]
  for (const [text, path, key] of cases) {
    it(JSON.stringify(text), () => {
      const got = at(text)
      expect(got.path).toBe(path)
      expect(got.key).toBe(key)
    })
  }
  it('never fails, whatever stands there', () => {
    const parts = ['a:', ' ', '\n', '- ', '{', '}', '[', ']', '"', "'", ',', ': ', '#', '${x}', 'é']
    let seed = 7
    const next = () => (seed = (seed * 1103515245 + 12345) & 0x7fffffff)
    for (let i = 0; i < 2000; i++) {
      let text = ''
      for (let n = next() % 40; n > 0; n--) text += parts[next() % parts.length]
      for (let p = 0; p <= text.length; p += 3) expect(placeAt(text, p).from).toBeLessThanOrEqual(p)
    }
  })
})

const key = (
  path: string,
  type: string,
  more: Partial<Schemas['LanguageKey']> = {},
): Schemas['LanguageKey'] => ({
  path: path.split('.'),
  type: type as Schemas['LanguageKey']['type'],
  need: false,
  doc: '',
  ...more,
})
const language = {
  kinds: [
    {
      kind: 'source',
      doc: '',
      keys: [
        key('hosts', 'host-condition', { need: true }),
        key('hosts', 'table'),
        key('hosts.*', 'text'),
        key('format', 'text', { names: 'format' }),
        key('read', 'object'),
        key('read.files', 'list'),
        key('read.first-read', 'choice', { choices: ['now', 'start'] }),
        key('keep-original', 'boolean'),
        key('steps', 'list'),
        key('steps.#', 'object'),
        key('steps.#.drop', 'condition'),
        key('send', 'list'),
        key('send.#', 'text', { names: 'destination' }),
        key('send.#', 'object'),
        key('send.#.to', 'text', { names: 'destination' }),
      ],
    },
  ],
  checks: [],
  labels: { role: ['gate', 'kiosk'], site: ['northpier'] },
  settings: ['log_root'],
  secrets: ['token'],
  schema: {},
} as unknown as Schemas['Language']

describe('completion', () => {
  const complete = completer(
    () => language,
    () => ({ format: ['raw', 'tide'], destination: ['out'] }),
    () => 'source',
  )
  const offered = (text: string) => {
    const pos = text.indexOf('|')
    const doc = text.slice(0, pos) + text.slice(pos + 1)
    return (
      complete({
        state: { doc: { toString: () => doc } },
        pos,
        explicit: true,
      } as unknown as CompletionContext)?.options.map((o) => o.label) ?? []
    )
  }
  it('offers the keys of a place', () => {
    expect(offered('source: x\n|')).toContain('format')
    expect(offered('source: x\nread:\n  |')).toEqual(['files', 'first-read'])
    expect(offered('steps:\n  - |')).toEqual(['drop'])
  })
  it('offers choices, names and booleans', () => {
    expect(offered('read:\n  first-read: |')).toEqual(['now', 'start'])
    expect(offered('format: |')).toEqual(['raw', 'tide'])
    expect(offered('keep-original: |')).toEqual(['true', 'false'])
    expect(offered('send: [{to: |')).toEqual(['out'])
    expect(offered('send: [|')).toContain('out')
  })
  it('offers labels of hosts with their values', () => {
    expect(offered('hosts: {|')).toEqual(['role', 'site'])
    expect(offered('hosts: {role: |')).toEqual(['gate', 'kiosk'])
    expect(offered('hosts: |')).toContain('all')
  })
  it('offers references', () => {
    expect(offered('read:\n  files: ["${|')).toEqual(
      expect.arrayContaining(['setting.log_root', 'label.role', 'secret.token', 'host.name']),
    )
  })
  it('knows nothing of another kind', () =>
    expect(
      completer(
        () => language,
        () => ({}),
        () => 'mask',
      )({
        state: { doc: { toString: () => '' } },
        pos: 0,
        explicit: true,
      } as unknown as CompletionContext),
    ).toBeNull())
})

describe('forms', () => {
  const root = tree(language.kinds[0]!.keys)
  it('makes a tree of the keys', () => {
    expect(root.children.map((c) => c.name)).toEqual([
      'hosts',
      'format',
      'read',
      'keep-original',
      'steps',
      'send',
    ])
    expect(root.children[0]!.forms).toHaveLength(2)
    expect(root.children[5]!.item!.children.map((c) => c.name)).toEqual(['to'])
  })
  it('writes numbers and booleans only where they are due', () => {
    expect(typed('', [])).toBeNull()
    expect(typed('0644', [key('a', 'text')])).toBe('0644')
    expect(typed('12', [key('a', 'integer')])).toBe(12)
    expect(typed('12x', [key('a', 'integer')])).toBe('12x')
    expect(typed('true', [key('a', 'boolean')])).toBe(true)
    expect(typed('true', [key('a', 'text')])).toBe('true')
  })
  it('matches places of the writer’s choice', () => {
    expect(fits(['hosts', '*'], ['hosts', 'role'])).toBe(true)
    expect(fits(['steps', '#', 'drop'], ['steps', 'drop'])).toBe(false)
  })
})

describe('sentence', () => {
  it('leaves code as it is', () => {
    expect(sentence('the path')).toBe('The path')
    expect(sentence('fields.lode == 0')).toBe('fields.lode == 0')
    expect(sentence('"crane/*.log" is')).toBe('"crane/*.log" is')
    expect(sentence(undefined)).toBe('')
  })
})

describe('csv', () => {
  it('keeps a spreadsheet from running a text', () => {
    expect(cell('=1+1')).toBe('"\'=1+1"')
    expect(cell('a "b"')).toBe('"a ""b"""')
  })
  it('writes hosts as import reads them', () => {
    expect(
      hostList([
        { host: 'a', labels: { role: 'gate, big' }, settings: {} },
        { host: 'b', labels: {}, settings: { root: '/x' } },
      ]),
    ).toBe('host,label.role,setting.root\na,"gate, big",\nb,,/x\n')
  })
})
