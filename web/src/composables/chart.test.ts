import { expect, it } from 'vitest'
import { amount, steps, type Unit } from './chart'

/** Numbers beside a picture are whole in their unit, and none stands there twice. */
it('steps of a picture are told apart', () => {
  for (const [unit, list] of Object.entries(steps) as [Unit, number[]][]) {
    expect(list).toEqual([...list].sort((a, b) => a - b))
    for (const step of list.filter((s) => s < 1e12)) {
      const ticks = [0, 1, 2, 3, 4, 5, 6].map((k) => amount(unit, k * step))
      expect(new Set(ticks).size, `${unit} by ${step}: ${ticks.join(', ')}`).toBe(ticks.length)
    }
  }
})
