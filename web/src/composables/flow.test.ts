import { expect, test } from 'vitest'
import type { Schemas } from '../api/client'
import { picture } from './flow'

/** A flow of so many sources at some sites, each to one or two destinations, of which one of seven fails. */
function flow(sources: number): Schemas['Flow'] {
  const edges: Schemas['FlowEdge'][] = []
  const nodes: Schemas['FlowNode'][] = []
  const edge = (site: string, source: string, destination: string, records: number) =>
    edges.push({
      site,
      source,
      destination,
      records,
      bytes: records * 100,
      dropped: 0,
      rejected: 0,
    })
  for (let i = 0; i < sources; i++) {
    const site = `site-${i % 5}`
    edge(site, `s${i}`, '', 1000 - i)
    edge(site, `s${i}`, 'archive', 900 - i)
    if (i % 3 === 0) edge(site, `s${i}`, `desk-${i % 2}`, 10)
    nodes.push({
      kind: 'source',
      name: `s${i}`,
      state: i % 70 === 69 ? 'failing' : 'healthy',
      hosts: 1,
      wrong: 0,
    })
  }
  return { from: '', to: '', edges, nodes }
}

test('all volume is in the picture, nothing overlaps, and what fails stands alone', () => {
  for (const sources of [1, 3, 24, 200])
    for (const measure of ['records', 'bytes'] as const) {
      const f = flow(sources)
      const p = picture(f, measure, 12)
      const sum = f.edges.reduce((n, e) => n + e[measure], 0)
      expect(p.links.reduce((n, l) => n + l.value, 0)).toBe(sum)
      for (const column of ['site', 'source', 'destination'] as const) {
        const nodes = p.nodes.filter((n) => n.column === column).sort((a, b) => a.y - b.y)
        expect(nodes.length).toBeLessThanOrEqual(25)
        nodes.forEach((n, i) => {
          expect(n.y + n.h).toBeLessThanOrEqual(p.height)
          if (i) expect(n.y).toBeGreaterThanOrEqual(nodes[i - 1]!.y + nodes[i - 1]!.h)
        })
      }
      for (const l of p.links)
        for (const [n, y] of [
          [l.from, l.y0],
          [l.to, l.y1],
        ] as const) {
          expect(y - l.w / 2).toBeGreaterThanOrEqual(n.y - 0.001)
          expect(y + l.w / 2).toBeLessThanOrEqual(n.y + Math.max(n.h, 2) + 0.001)
        }
      expect(
        p.nodes.filter((n) => n.column === 'source' && n.state === 'failing' && n.together === 1),
      ).toHaveLength(f.nodes.filter((n) => n.state === 'failing').length)
      expect(p.nodes.filter((n) => n.column === 'source').reduce((n, x) => n + x.together, 0)).toBe(
        sources,
      )
    }
  expect(picture({ from: '', to: '', edges: [], nodes: [] }, 'records', 12)).toEqual({
    nodes: [],
    links: [],
    height: 0,
  })
})
