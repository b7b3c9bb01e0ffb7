import { describe, expect, it } from 'vitest'
import { draw } from './history'

const at = (day: number) => new Date(Date.UTC(2026, 10, day)).toISOString()
const held = (edition: number | undefined, since: number, until?: number) => ({
  standing: 'in-use',
  edition,
  since: at(since),
  until: until ? at(until) : undefined,
  who: 'Ruth',
})

describe('the history of a standing', () => {
  const editions = [
    { number: 2, entered: at(5) },
    { number: 1, entered: at(1) },
  ]
  it('has a line for each edition, thick while it had it', () => {
    const d = draw(editions, [held(1, 9), held(2, 6, 9), held(1, 2, 6)], 'in-use', 1000, Date.parse(at(11)))
    expect(d.lines.map((l) => l.number)).toEqual([1, 2])
    expect(d.lines[0].from).toBe(0)
    expect(d.lines[1].from).toBe(400)
    expect(d.lines[0].stretches.map((s) => [s.from, s.to])).toEqual([
      [800, 1000],
      [100, 500],
    ])
    expect(d.lines[1].stretches.map((s) => [s.from, s.to])).toEqual([[500, 800]])
  })
  it('marks at most six times, at whole units', () => {
    for (const days of [1 / 3000, 1 / 48, 1, 5, 30, 400]) {
      const now = Date.parse(at(1)) + days * 86_400_000
      const { ticks } = draw(editions.slice(1), [], 'in-use', 800, now)
      expect(ticks.length).toBeGreaterThan(0)
      expect(ticks.length).toBeLessThan(8)
      expect(ticks.every((t) => t.at >= 0 && t.at <= 800)).toBe(true)
    }
  })
  it('has nothing to draw where there is nothing', () => {
    expect(draw([], [], 'in-use', 800).lines).toEqual([])
  })
})
