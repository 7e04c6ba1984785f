import type uPlot from 'uplot'
import type { Schemas } from '../api/client'
import { bytes, number } from './format'

/** Colours and strokes of up to four lines: each is told from the others without its colour. */
const strokes = [
  { colour: '--waiting', dash: [] as number[], border: 'solid' },
  { colour: '--degraded', dash: [7, 3], border: 'dashed' },
  { colour: '--healthy', dash: [2, 3], border: 'dotted' },
  { colour: '--failing', dash: [10, 3, 2, 3], border: 'double' },
]

/** How many lines one picture may have. */
export const mostLines = strokes.length

export type Unit = 'count' | 'bytes' | 'seconds'

export function amount(unit: Unit, v: number): string {
  if (unit === 'bytes') return bytes(v)
  if (unit === 'count') return number(Math.round(v))
  if (v < 120) return `${Math.round(v)} s`
  if (v < 7200) return `${Math.round(v / 6) / 10} min`
  return `${Math.round(v / 360) / 10} h`
}

const upTo = (n: number) => [...Array(n).keys()]
/** What may lie between two numbers beside a picture, so that they are round in their unit. */
export const steps: Record<Unit, number[]> = {
  count: upTo(16).flatMap((k) => [1, 2, 5].map((n) => n * 10 ** k)),
  bytes: upTo(50).map((k) => 2 ** k),
  seconds: [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800].concat(
    upTo(20).map((k) => 3600 * 2 ** k),
  ),
}

/** What the number of a line is counted in. */
export const unitOf = (name: string): Unit => {
  const of = name.split('@')[0]! // of one sender
  if (of === 'lag') return 'seconds'
  return of === 'bytes' || of === 'sent' || of === 'disk' ? 'bytes' : 'count'
}

interface Picture {
  numbers: Schemas['NumbersOverTime']
  lines: Schemas['NumberLine'][]
  label: string
  unit: Unit
}

const clock = new Intl.DateTimeFormat('sv-SE', { timeStyle: 'short' })
const seconds = new Intl.DateTimeFormat('sv-SE', { timeStyle: 'medium' })
const date = new Intl.DateTimeFormat('sv-SE', { month: '2-digit', day: '2-digit' })

/** A time under the picture: with its date where that is another than before. */
function tick(t: number, before: number | undefined, span: number): string {
  const at = new Date(t * 1000)
  const day = date.format(at)
  if (span > 5 * 86400) return day
  const same = before !== undefined && date.format(new Date(before * 1000)) === day
  const time = (span < 20 * 60 ? seconds : clock).format(at)
  return same ? time : `${time}\n${day}`
}

/** Draws lines over time into an element. chosen is called with a span in milliseconds. */
export async function drawChart(
  into: HTMLElement,
  p: Picture,
  chosen: (from: number, to: number) => void,
): Promise<uPlot> {
  const { default: Plot } = await import('uplot')
  await import('uplot/dist/uPlot.min.css')
  const colour = (name: string) =>
    getComputedStyle(document.documentElement).getPropertyValue(name).trim()
  const begin = Date.parse(p.numbers.from) / 1000
  const times = (p.lines[0]?.points ?? [])
    .map((_, i) => begin + i * p.numbers.step)
    .filter((t) => (t + p.numbers.step) * 1000 <= Date.now()) // the step that is under way says too little
  const span = times.length * p.numbers.step
  const marks = (u: uPlot) => {
    const c = u.ctx
    c.save()
    c.strokeStyle = colour('--ink')
    c.fillStyle = colour('--ink')
    c.lineWidth = 1
    for (const m of p.numbers.marks) {
      const x = Math.round(u.valToPos(Date.parse(m.at) / 1000, 'x', true)) + 0.5
      if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue
      c.beginPath()
      c.setLineDash([3, 3])
      c.moveTo(x, u.bbox.top)
      c.lineTo(x, u.bbox.top + u.bbox.height)
      c.stroke()
      c.beginPath()
      c.moveTo(x - 4, u.bbox.top)
      c.lineTo(x + 4, u.bbox.top)
      c.lineTo(x, u.bbox.top + 6)
      c.fill()
    }
    c.restore()
  }
  const axis = {
    stroke: colour('--soft'),
    grid: { stroke: colour('--line'), width: 1 },
    ticks: { stroke: colour('--line'), width: 1 },
    font: '12px Inter, sans-serif',
  }
  return new Plot(
    {
      width: into.clientWidth,
      height: 200,
      cursor: { drag: { x: true, y: false, setScale: false } },
      legend: {
        live: true,
        markers: { dash: (_, i) => strokes[(i - 1) % strokes.length]!.border },
      },
      axes: [
        { ...axis, values: (_, ticks) => ticks.map((t, i) => tick(t, ticks[i - 1], span)) },
        {
          ...axis,
          size: 72,
          incrs: steps[p.unit],
          values: (_, ticks) => ticks.map((v) => amount(p.unit, v)),
        },
      ],
      scales: { y: { range: (_, __, top) => [0, top > 0 ? top * 1.05 : 1] } },
      series: [
        { value: (_, v) => (v === null ? '–' : new Date(v * 1000).toLocaleString('sv-SE')) },
        ...p.lines.map((l, i) => ({
          label: l.group ? `${l.group} ${l.number}` : l.number,
          stroke: colour(strokes[i % strokes.length]!.colour),
          dash: strokes[i % strokes.length]!.dash,
          width: 2,
          // a line needs two points beside each other
          points: { show: l.points.filter((v) => v !== null).length < 12, size: 5 },
          value: (_: uPlot, v: number | null) => (v === null ? '–' : amount(p.unit, v)),
        })),
      ],
      hooks: {
        draw: [marks],
        setSelect: [
          (u) => {
            if (u.select.width < 6) return
            chosen(
              u.posToVal(u.select.left, 'x') * 1000,
              u.posToVal(u.select.left + u.select.width, 'x') * 1000,
            )
            u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
          },
        ],
      },
    },
    [times, ...p.lines.map((l) => l.points.slice(0, times.length))] as uPlot.AlignedData,
    into,
  )
}
