import type { Schemas } from '../api/client'

export type Column = 'site' | 'source' | 'destination'
export type Measure = 'records' | 'bytes'

/** A site, source or destination in the picture, or several small ones together. */
export interface FlowNode {
  column: Column
  name: string
  together: number // how many it stands for, when it is more than one
  value: number
  state: Schemas['State']
  wrong: number
  y: number
  h: number
}
export interface FlowLink {
  from: FlowNode
  to: FlowNode
  value: number
  y0: number // its middle at both ends
  y1: number
  w: number
}
export interface FlowPicture {
  nodes: FlowNode[]
  links: FlowLink[]
  height: number
}

const columns: Column[] = ['site', 'source', 'destination']
/** How tall the volumes of a column are together, and the room that a name needs. */
const tall = 380
const row = 30
const order: Schemas['State'][] = ['failing', 'offline', 'degraded', 'waiting', 'healthy']

/** Sets out a flow: heights by volume; of many, the smallest of a column stand together, but for those that are not well. */
export function picture(flow: Schemas['Flow'], measure: Measure, most: number): FlowPicture {
  const states = new Map(flow.nodes.map((n) => [`${n.kind} ${n.name}`, n]))
  const volumes: Record<Column, Map<string, [number, number]>> = {
    site: new Map(),
    source: new Map(),
    destination: new Map(),
  }
  const add = (c: Column, name: string, v: number, out: 0 | 1) => {
    const sum = volumes[c].get(name) ?? [0, 0]
    sum[out] += v
    volumes[c].set(name, sum)
  }
  for (const e of flow.edges) {
    if (e.destination) {
      add('source', e.source, e[measure], 1)
      add('destination', e.destination, e[measure], 0)
    } else {
      add('site', e.site, e[measure], 1)
      add('source', e.source, e[measure], 0)
    }
  }
  const nodes: FlowNode[] = []
  const of = new Map<string, FlowNode>()
  for (const c of columns) {
    const all = [...volumes[c]]
      .map(([name, [into, out]]) => ({ name, value: Math.max(into, out) }))
      .sort((a, b) => b.value - a.value || a.name.localeCompare(b.name))
    const well = (name: string) =>
      !['failing', 'degraded', 'offline'].includes(states.get(`${c} ${name}`)?.state ?? 'waiting')
    const alone = all.filter((n, i) => i < most || !well(n.name)).slice(0, most * 2)
    const rest = all.filter((n) => !alone.includes(n))
    for (const n of alone) {
      const s = states.get(`${c} ${n.name}`)
      const node: FlowNode = {
        column: c,
        name: n.name,
        together: 1,
        value: n.value,
        state: s?.state ?? 'waiting',
        wrong: s?.wrong ?? 0,
        y: 0,
        h: 0,
      }
      nodes.push(node)
      of.set(`${c} ${n.name}`, node)
    }
    if (!rest.length) continue
    const node: FlowNode = {
      column: c,
      name: `${rest.length} others`,
      together: rest.length,
      value: rest.reduce((sum, n) => sum + n.value, 0),
      state:
        order.find((s) => rest.some((n) => states.get(`${c} ${n.name}`)?.state === s)) ?? 'waiting',
      wrong: 0,
      y: 0,
      h: 0,
    }
    nodes.push(node)
    for (const n of rest) of.set(`${c} ${n.name}`, node)
  }
  const totals = columns.map((c) =>
    nodes.filter((n) => n.column === c).reduce((sum, n) => sum + n.value, 0),
  )
  const scale = tall / Math.max(1, ...totals)
  let height = 0
  for (const c of columns) {
    let y = 0
    for (const n of nodes.filter((x) => x.column === c)) {
      n.h = Math.max(2, n.value * scale)
      const room = Math.max(row, n.h + 8)
      n.y = y + (room - n.h) / 2
      y += room
    }
    height = Math.max(height, y)
  }
  const merged = new Map<string, FlowLink>()
  for (const e of flow.edges) {
    const from = of.get(e.destination ? `source ${e.source}` : `site ${e.site}`)!
    const to = of.get(e.destination ? `destination ${e.destination}` : `source ${e.source}`)!
    const key = `${from.column} ${from.name}>${to.name}`
    const l = merged.get(key) ?? { from, to, value: 0, y0: 0, y1: 0, w: 0 }
    l.value += e[measure]
    merged.set(key, l)
  }
  const links = [...merged.values()].filter((l) => l.value > 0)
  const used = new Map<string, number>()
  const stack = (n: FlowNode, side: string, w: number) => {
    const key = `${n.column} ${n.name} ${side}`
    const at = used.get(key) ?? 0
    used.set(key, at + w)
    return n.y + at + w / 2
  }
  links.sort((a, b) => a.from.y - b.from.y || a.to.y - b.to.y)
  for (const l of links) {
    l.w = l.value * scale
    l.y0 = stack(l.from, 'out', l.w)
  }
  for (const l of [...links].sort((a, b) => a.to.y - b.to.y || a.from.y - b.from.y))
    l.y1 = stack(l.to, 'in', l.w)
  return { nodes, links, height }
}
