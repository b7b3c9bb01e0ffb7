import { expect, it } from 'vitest'
import { append, byMeasure, draw } from './curves'

const curve = (name: string, step: number[], value: (number | 'NaN')[]) =>
  draw({ name, step, epoch: step.map((s) => s / 10), time: step, value })

it('puts new readings behind old ones and keeps NaN', () => {
  const have = [curve('loss.val', [10, 20], [1, 0.5])]
  const got = append(have, [curve('loss.val', [30], ['NaN']), curve('accuracy.val', [30], [0.9])])
  expect(got.map((c) => c.name)).toEqual(['accuracy.val', 'loss.val'])
  expect(got[1].step).toEqual([10, 20, 30])
  expect(got[1].value).toEqual([1, 0.5, NaN])
  expect(have[0].step).toEqual([10, 20])
})

it('orders measures: the objective, then pairs, then the rest', () => {
  const all = ['accuracy.val', 'gradient', 'loss.train', 'loss.val', 'a'].map((n) => curve(n, [1], [1]))
  expect(byMeasure(all, 'loss.val').map((m) => m.measure)).toEqual(['loss', 'accuracy', 'a', 'gradient'])
})
