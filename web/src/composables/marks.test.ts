import { describe, expect, it } from 'vitest'
import { byteLength, pieces } from './marks'

describe('pieces', () => {
  it('cuts at bytes, not at characters', () => {
    expect(pieces('ü doc=PA1 ende', [{ start: 7, end: 10, mask: 'passport' }])).toEqual([
      { text: 'ü doc=', from: 0, to: 7 },
      { text: 'PA1', mask: 'passport', from: 7, to: 10 },
      { text: ' ende', from: 10, to: 15 },
    ].map((p) => ({ mask: undefined, ...p })))
  })
  it('leaves out what overlaps or lies outside', () => {
    expect(pieces('abcdef', [{ start: 3, end: 5, mask: 'b' }, { start: 1, end: 4, mask: 'a' }, { start: 5, end: 9, mask: 'c' }]).map((p) => [p.text, p.mask])).toEqual([['a', undefined], ['bcd', 'a'], ['ef', undefined]])
  })
  it('counts bytes', () => expect(byteLength('ü€')).toBe(5))
})
