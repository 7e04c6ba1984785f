import { expect, test } from 'vitest'
import { fit } from './places'

test('what begins with the text comes first, and all words must be in the name', () => {
  for (const [name, typed, want] of [
    ['gate-northpier-1', 'gate', 3],
    ['gate-northpier-1', 'GATE-northpier-1', 4],
    ['gate-northpier-1', 'pier', 2],
    ['gate-northpier-1', 'pier gate', 2],
    ['gate-northpier-1', 'gull', 0],
    ['gate-northpier-1', 'gate gull', 0],
    ['gate-northpier-1', '  ', 1],
  ] as const)
    expect(fit(name, typed), `${typed} in ${name}`).toBe(want)
})
