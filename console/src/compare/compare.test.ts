import { expect, it } from 'vitest'
import type { Comparison, Learning, Mattered, TradeOff } from '../api/client'
import { drawnLines, groupOf, lookOf } from './looks'
import { drawnValue, interactions, parallel, scatter, tradeOff } from './options'

const comparison = {
  runs: [{ number: 1 }, { number: 2 }, { number: 3 }, { number: 4 }, { number: 5 }],
  groups: [{ runs: [2, 3] }, { runs: [1] }, { runs: [4, 5] }],
} as unknown as Comparison

it('keeps a colour for each setting, with a second dash from the ninth on', () => {
  expect(groupOf(comparison, [3])).toBe(0)
  expect(groupOf(comparison, [4, 5])).toBe(2)
  expect(lookOf(0).dash).toBeUndefined()
  expect(lookOf(8)).toEqual({ colour: lookOf(0).colour, dash: [9, 3, 2, 3] })
})

it('draws lines as they are, and what is left of them without the baseline', () => {
  const learning = {
    by: 'epoch',
    baseline: 1,
    lines: [
      {
        name: 'loss.val',
        label: 'wide',
        runs: [2, 3],
        x: [1, 2],
        y: [3, 'NaN'],
        low: [2, 1],
        high: [4, 5],
        less_x: [2],
        less_y: [-1],
      },
      {
        name: 'loss.val',
        label: 'base',
        runs: [1],
        x: [1, 2],
        y: [4, 3],
        less_x: [1, 2],
        less_y: [0, 0],
        baseline: true,
      },
      { name: 'accuracy.val', label: 'wide', runs: [2, 3], x: [1], y: [0.5] },
    ],
  } as unknown as Learning
  const whole = drawnLines(comparison, learning, 'loss.val', false)
  expect(whole.map((d) => d.look!.label)).toEqual(['wide', '1'])
  expect(whole[0].value).toEqual([3, NaN])
  expect(whole[0].min).toEqual([2, 1])
  const less = drawnLines(comparison, learning, 'loss.val', true)
  expect(less.length).toBe(1)
  expect([less[0].x, less[0].value, less[0].min]).toEqual([[2], [-1], undefined])
})

const points = Array.from({ length: 20 }, (_, i) => ({
  run: i + 1,
  title: '',
  figure: 1 + i,
  hyper: { lr: 0.001 * 2 ** i, optimiser: i % 2 ? 'adam' : 'momentum', ...(i > 4 ? { width: i } : {}) },
}))
const mattered = {
  figure: 'best("loss.val")',
  lower: true,
  points,
  influences: [{ name: 'lr' }, { name: 'optimiser' }, { name: 'width' }],
  pairs: [
    { a: 'width', b: 'lr', strength: 0.5 },
    { a: 'lr', b: 'optimiser', strength: 0.1 },
  ],
} as unknown as Mattered

it('begins parallel coordinates with the best tenth', () => {
  const low = parallel(mattered, ['lr'], 'vessels').brush
  expect(points.filter((p) => p.figure >= low[0] && p.figure <= low[1]).map((p) => p.run)).toEqual([1, 2])
  const high = parallel({ ...mattered, lower: false }, ['lr'], 'vessels').brush
  expect(points.filter((p) => p.figure >= high[0] && p.figure <= high[1]).map((p) => p.run)).toEqual([19, 20])
})

it('draws wide ranges by powers, words by themselves, and what is absent as that', () => {
  const byRate = scatter(mattered, 'lr', '', 'vessels') as { xAxis: { type: string } }
  expect(byRate.xAxis.type).toBe('log')
  const byWidth = scatter(mattered, 'width', 'optimiser', 'vessels') as {
    xAxis: { type: string; data: string[] }
    yAxis: { data: string[] }
  }
  expect(byWidth.xAxis.data.slice(0, 3)).toEqual(['5', '6', '7'])
  expect(byWidth.xAxis.data.at(-1)).toBe('absent')
  expect(byWidth.yAxis.data).toEqual(['adam', 'momentum'])
  expect(drawnValue(mattered.points![0], 'width')).toBe('absent')
})

it('puts each pair once into the triangle of interactions, the more important first', () => {
  const { names, option } = interactions(mattered)
  expect(names).toEqual(['lr', 'optimiser', 'width'])
  const cells = (option as { series: { data: { value: number[] }[] }[] }).series[0].data.map((d) => d.value)
  expect(cells).toEqual([
    [0, 2, 0.5],
    [0, 1, 0.1],
  ])
})

it('marks the runs that no other beats by their shape', () => {
  const t = {
    figures: ['best', 'pace'],
    lower: [true, true],
    points: [
      { run: 1, title: 'a', values: [1, 2], undominated: true },
      { run: 2, title: 'b', values: [2, 3], undominated: false },
    ],
  } as unknown as TradeOff
  const option = tradeOff(t, 'vessels') as {
    series: { data: { symbol: string; run: number }[] }[]
    xAxis: { name: string }
  }
  expect(option.series[0].data.map((d) => d.symbol)).toEqual(['diamond', 'circle'])
  expect(option.xAxis.name).toBe('best ↓')
})
