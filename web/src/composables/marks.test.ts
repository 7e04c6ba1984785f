import { describe, expect, it } from 'vitest'
import { byteLength, pieces, unmasked } from './marks'

describe('pieces', () => {
  it('cuts at bytes, not at characters', () => {
    expect(pieces('ü doc=PA1 ende', [{ start: 7, end: 10, mask: 'passport' }])).toEqual(
      [
        { text: 'ü doc=', from: 0, to: 7 },
        { text: 'PA1', mask: 'passport', from: 7, to: 10 },
        { text: ' ende', from: 10, to: 15 },
      ].map((p) => ({ mask: undefined, ...p })),
    )
  })
  it('leaves out what overlaps or lies outside', () => {
    expect(
      pieces('abcdef', [
        { start: 3, end: 5, mask: 'b' },
        { start: 1, end: 4, mask: 'a' },
        { start: 5, end: 9, mask: 'c' },
      ]).map((p) => [p.text, p.mask]),
    ).toEqual([
      ['a', undefined],
      ['bcd', 'a'],
      ['ef', undefined],
    ])
  })
  it('counts bytes', () => expect(byteLength('ü€')).toBe(5))
})

describe('unmasked', () => {
  const hit = (line: number, start: number, end: number, lines = 1) => ({ line, start, end, lines })
  it('finds what masks leave in any line of a record', () => {
    const records = [
      { line: 1, body: '', original: 'é head\nby kelp', private: [{ start: 11, end: 15 }] },
      { line: 3, body: '', original: 'head\nby wrasse\nand kelp', private: [] },
      { line: 6, body: '', original: 'kelp', private: [{ start: 0, end: 2 }] },
    ]
    const open = [hit(3, 0, 4), hit(4, 3, 9), hit(5, 4, 8), hit(4, 3, 3, 2)]
    expect(unmasked(records, [hit(2, 3, 7), hit(6, 0, 4), hit(9, 0, 1), ...open])).toEqual(open)
  })
})
