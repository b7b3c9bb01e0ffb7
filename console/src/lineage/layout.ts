import { Graph, layout } from '@dagrejs/dagre'
import type { Lineage } from '../api/client'

type Node = NonNullable<Lineage['nodes']>[number]

/** A thing where it is drawn: x and y are its middle. */
export interface Placed extends Node {
  index: number
  x: number
  y: number
  width: number
  height: number
  second: string
}

/** A link as it is drawn: those between two things are one. */
export interface Drawn {
  from: number
  to: number
  path: string
  label: string
  x: number
  y: number
}

const short: Record<string, string> = {
  branch: 'branch',
  rerun: 'again',
  'equal-weights': 'equal weights',
  'evaluated-on': 'on',
  changed: 'changed',
}

/** What is written at a link: of data, what it was used for. */
const words = (how: string, use = '') => (how === 'data' ? use : (short[how] ?? ''))

const cut = (text: string, most: number) => (text.length > most ? text.slice(0, most - 1) + '…' : text)

/** Places a graph from left to right, what was there before first. */
export function place(graph: Lineage): { nodes: Placed[]; links: Drawn[]; width: number; height: number } {
  const g = new Graph()
  g.setGraph({ rankdir: 'LR', nodesep: 14, ranksep: 40, marginx: 8, marginy: 8 })
  g.setDefaultEdgeLabel(() => ({}))
  const nodes = (graph.nodes ?? []).map((n, index): Placed => {
    const second = cut([n.title ?? n.kind, n.state].filter(Boolean).join(', '), 32)
    const first = n.address || 'not for you to see'
    const width = Math.ceil(Math.max(first.length * 7.3, second.length * 6) + (n.kind === 'edition' ? 56 : 24))
    g.setNode(String(index), { width, height: 42 })
    return { ...n, address: first, index, second, x: 0, y: 0, width, height: 42 }
  })
  const labels = new Map<string, string[]>()
  for (const l of graph.links ?? []) {
    const key = `${l.from} ${l.to}`
    const label = words(l.how, l.use)
    const had = labels.get(key) ?? []
    labels.set(key, label && !had.includes(label) ? [...had, label] : had)
  }
  for (const [key, list] of labels) {
    const [from, to] = key.split(' ')
    const text = list.join(', ')
    g.setEdge(from, to, { width: text.length * 6.1, height: text ? 14 : 0, labelpos: 'c' })
  }
  layout(g)
  for (const n of nodes) Object.assign(n, pick(g.node(String(n.index)) as { x: number; y: number }))
  const links = [...labels].map(([key, list]): Drawn => {
    const [from, to] = key.split(' ').map(Number)
    const e = g.edge(String(from), String(to)) as { points: { x: number; y: number }[]; x?: number; y?: number }
    const [a, b] = [nodes[from], nodes[to]]
    const points = [{ x: a.x + a.width / 2, y: a.y }, ...e.points.slice(1, -1), { x: b.x - b.width / 2, y: b.y }]
    return { from, to, path: smooth(points), label: list.join(', '), x: e.x ?? 0, y: e.y ?? 0 }
  })
  const size = g.graph() as { width?: number; height?: number }
  return { nodes, links, width: Math.ceil(size.width ?? 0), height: Math.ceil(size.height ?? 0) }
}

const pick = ({ x, y }: { x: number; y: number }) => ({ x, y })

/** A line through points that leaves and arrives level. */
function smooth(points: { x: number; y: number }[]): string {
  let path = `M${points[0].x},${points[0].y}`
  for (let i = 1; i < points.length; i++) {
    const [a, b] = [points[i - 1], points[i]]
    const middle = (a.x + b.x) / 2
    path += `C${middle},${a.y} ${middle},${b.y} ${b.x},${b.y}`
  }
  return path
}

/** The thing that an arrow key leads to: along the links left and right, up and down among those as far away. */
export function beside(nodes: Placed[], links: Drawn[], at: number, key: string): number {
  const here = nodes[at]
  const nearest = (list: number[]) =>
    list.length ? list.reduce((a, b) => (Math.abs(nodes[b].y - here.y) < Math.abs(nodes[a].y - here.y) ? b : a)) : at
  if (key === 'ArrowLeft') return nearest(links.filter((l) => l.to === at).map((l) => l.from))
  if (key === 'ArrowRight') return nearest(links.filter((l) => l.from === at).map((l) => l.to))
  const side = key === 'ArrowUp' ? -1 : 1
  const column = nodes.filter((n) => Math.abs(n.x - here.x) < here.width / 2 && (n.y - here.y) * side > 0)
  return nearest(column.map((n) => n.index))
}
