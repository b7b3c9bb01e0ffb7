import { expect, test } from 'vitest'
import type { Mattered } from '../api/client'
import { effectsOf, ticksOf } from './effects'

const effect = (value: unknown, mean: number) => ({ value, mean, low: mean - 0.1, high: mean + 0.1 })
const mattered = {
  figure: 'best("loss.val")',
  lower: true,
  influences: [
    {
      name: 'lr',
      runs: 3,
      correlation: 0.5,
      low: 'NaN',
      high: 'NaN',
      importance: 0.4,
      effects: [effect(0.001, 1), effect(0.1, 2)],
    },
    {
      name: 'optimiser',
      runs: 3,
      correlation: 'NaN',
      low: 'NaN',
      high: 'NaN',
      importance: 0.2,
      effects: [effect('adam', 1), effect('momentum', 1.5)],
    },
    { name: 'width', runs: 3, correlation: 0, low: 'NaN', high: 'NaN', importance: 0, effects: [] },
  ],
  points: [
    { run: 1, title: '', figure: 1, hyper: { lr: 0.001, optimiser: 'adam', width: 8 } },
    { run: 2, title: '', figure: 2, hyper: { lr: 0.1, optimiser: 'momentum', width: 8 } },
    { run: 3, title: '', figure: 2.1, hyper: { lr: 0.01, optimiser: 'other' } },
  ],
} as unknown as Mattered

test('effects are placed along their axes', () => {
  const { list, others, range } = effectsOf(mattered)
  expect(list.map((e) => e.name)).toEqual(['lr', 'optimiser'])
  expect(others).toEqual(['width'])
  const [lr, optimiser] = list
  expect(lr.scale(0.01)).toBeCloseTo(0.5) // a wide range of positive numbers is logarithmic
  expect(lr.says).toContain('best at 0.001')
  expect(optimiser.words).toBe(true)
  expect(optimiser.points.map((p) => p.run)).toEqual([1, 2]) // a value that has no effect is not drawn
  expect(optimiser.scale(0)).toBeCloseTo(0.25)
  expect(range[0]).toBeLessThan(0.9)
  expect(range[1]).toBeGreaterThan(2.1)
})

test('runs that came to nothing do not flatten the rest', () => {
  const points = Array.from({ length: 40 }, (_, i) => ({
    run: i,
    title: '',
    figure: i === 7 ? 1e9 : 1 + i / 40,
    hyper: { lr: 0.01 },
  }))
  const got = effectsOf({ ...mattered, points })
  expect(got.range[1]).toBeLessThan(3)
  expect(got.cut).toBeGreaterThan(0)
})

test('ticks are round', () => {
  expect(ticksOf(0.93, 2.2)).toEqual([1, 1.5, 2])
  expect(ticksOf(0, 1)).toEqual([0, 0.5, 1])
  expect(ticksOf(3, 3)).toEqual([3])
})
