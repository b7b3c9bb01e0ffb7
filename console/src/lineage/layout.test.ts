import { expect, test } from 'vitest'
import type { Lineage } from '../api/client'
import { beside, place } from './layout'

const graph = {
  of: 2,
  nodes: [
    { kind: 'snapshot', address: 'hydrophone#1', depth: -2 },
    { kind: 'run', address: 'vessels/1', depth: -1, title: 'a title that is longer than there is room for it' },
    { kind: 'checkpoint', address: 'vessels/1@e9', depth: 0 },
    { kind: 'run', address: '', depth: 1, state: 'hidden' },
    { kind: 'evaluation', address: 'vessels/1/evaluations/1', depth: 1 },
  ],
  links: [
    { from: 0, to: 1, how: 'data', use: 'train', data: 'hydrophone#1:train' },
    { from: 0, to: 1, how: 'data', use: 'val', data: 'hydrophone#1:val' },
    { from: 1, to: 2, how: 'saved' },
    { from: 2, to: 3, how: 'branch' },
    { from: 2, to: 4, how: 'evaluated' },
    { from: 0, to: 4, how: 'evaluated-on' },
  ],
} as unknown as Lineage

test('what was there before stands left, and nothing lies on another', () => {
  const { nodes, links, width, height } = place(graph)
  for (const l of links) expect(nodes[l.from].x).toBeLessThan(nodes[l.to].x)
  for (const a of nodes) {
    expect(a.x - a.width / 2).toBeGreaterThanOrEqual(0)
    expect(a.x + a.width / 2).toBeLessThanOrEqual(width)
    expect(a.y + a.height / 2).toBeLessThanOrEqual(height)
    for (const b of nodes) {
      if (a === b) continue
      const apart = Math.abs(a.x - b.x) >= (a.width + b.width) / 2 || Math.abs(a.y - b.y) >= (a.height + b.height) / 2
      expect(apart).toBe(true)
    }
  }
  expect(links).toHaveLength(5)
  expect(links.find((l) => l.to === 1)?.label).toBe('train, val')
  expect(nodes[1].second).toHaveLength(32)
  expect(nodes[3].address).toBe('not for you to see')
})

test('arrow keys follow the links, and stay where there are none', () => {
  const { nodes, links } = place(graph)
  expect(beside(nodes, links, 0, 'ArrowRight')).toBe(1)
  expect(beside(nodes, links, 2, 'ArrowLeft')).toBe(1)
  expect(beside(nodes, links, 0, 'ArrowLeft')).toBe(0)
  const [upper, lower] = nodes[3].y < nodes[4].y ? [3, 4] : [4, 3]
  expect(beside(nodes, links, upper, 'ArrowDown')).toBe(lower)
  expect(beside(nodes, links, lower, 'ArrowUp')).toBe(upper)
  expect(beside(nodes, links, upper, 'ArrowUp')).toBe(upper)
})

test('an empty graph is no trouble', () => {
  expect(place({ of: 0, nodes: [], links: [] } as unknown as Lineage).nodes).toEqual([])
})
