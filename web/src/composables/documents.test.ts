import { expect, it } from 'vitest'
import { documents } from './documents'

it('cuts definitions apart', () => {
  expect(documents('# about\nmask: passport\nfind: x\n---\nguard: all-of-it   # here\nmasks: [passport]\n---\n\n')).toEqual([
    { kind: 'mask', name: 'passport', text: '# about\nmask: passport\nfind: x\n' },
    { kind: 'guard', name: 'all-of-it', text: 'guard: all-of-it   # here\nmasks: [passport]\n' },
  ])
  expect(documents('')).toEqual([])
})
