import { expect, it } from 'vitest'
import { documents } from './documents'

it('cuts definitions apart', () => {
  expect(
    documents(
      '# about\nmask: passport\nfind: x\n---\nguard: all-of-it   # here\nmasks: [passport]\n---\n\n',
    ),
  ).toEqual([
    { kind: 'mask', name: 'passport', text: '# about\nmask: passport\nfind: x\n' },
    { kind: 'guard', name: 'all-of-it', text: 'guard: all-of-it   # here\nmasks: [passport]\n' },
  ])
  expect(documents('')).toEqual([])
})

it('knows a separator from what looks like one', () => {
  const text =
    '--- # the first\n"source": "gate"\nabout: |\n  ---\n  not a new one\n...\n---\nmask: m\nfind: x\n'
  expect(documents(text)).toEqual([
    { kind: 'source', name: 'gate', text: '"source": "gate"\nabout: |\n  ---\n  not a new one\n' },
    { kind: 'mask', name: 'm', text: 'mask: m\nfind: x\n' },
  ])
  expect(documents('just words\n---\n- a list\n---\nmask: m\n')).toEqual([
    { kind: 'mask', name: 'm', text: 'mask: m\n' },
  ])
})
