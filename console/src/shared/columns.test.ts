import { expect, it } from 'vitest'
import type { Run } from '../api/client'
import {
  asked,
  cellText,
  formatted,
  hyperValue,
  labelOf,
  readColumns,
  sortOf,
  splitList,
  widthFor,
  writeColumns,
} from './columns'

const run = {
  number: 3,
  best: { curve: 'loss.val', value: 0.123456, step: 10, epoch: 2 },
  last: { curve: 'loss.val', value: 'NaN', step: 20, epoch: 3 },
  against_baseline: 0.25,
  state: 'finished',
  tags: ['a', 'b'],
  started: '2026-11-20T10:00:00Z',
  ended: '2026-11-20T10:01:30Z',
  took: 90,
  values: [0.00112564, null, [384, 6], 'adam'],
} as unknown as Run

it('takes lists apart at the commas between values only', () => {
  expect(splitList('best,at("a,b") , hyper["x,y"], last("loss.val") - best("loss.val")')).toEqual([
    'best',
    'at("a,b")',
    'hyper["x,y"]',
    'last("loss.val") - best("loss.val")',
  ])
  expect(splitList('')).toEqual([])
})

it('writes columns into the link and reads them back', () => {
  const list = readColumns('curve,best,hyper.lr,at("accuracy.val")', '2:130,9:80,1:9999', '3:%,1:2')
  expect(list.map((c) => c.what)).toEqual(['curve', 'best', 'hyper.lr', 'at("accuracy.val")'])
  expect(list.map((c) => c.width)).toEqual([136, 600, 130, 84])
  expect(list.map((c) => c.format)).toEqual(['', '2', '', '%'])
  const link = writeColumns(list)
  expect(readColumns(link.columns, link.widths, link.formats)).toEqual(list)
  const fitting = { 'hyper.lr': 77 }
  const fitted = readColumns('hyper.lr', '', '', fitting)
  expect(fitted[0].width).toBe(77)
  expect(writeColumns(fitted, fitting).widths).toBe('')
})

it('asks for values that are none of its own, and finds them in their order', () => {
  const list = readColumns(
    'best,hyper.lr,state,hyper.none,hyper.layers,hyper.optimiser,last,against,tags,took',
    '',
    '0:2',
  )
  const values = asked(list)
  expect(values).toEqual(['hyper.lr', 'hyper.none', 'hyper.layers', 'hyper.optimiser'])
  expect(list.map((c) => cellText(c, run, values, 0))).toEqual([
    '0.12',
    '0.00112564',
    'finished',
    '',
    '[384,6]',
    'adam',
    'NaN',
    '+0.2500',
    'a, b',
    '1 min 30 s',
  ])
})

it('names values, and says by what a column is sorted', () => {
  expect(labelOf('at("accuracy.val")')).toBe('accuracy.val at best')
  expect(labelOf('hyper["lr-drop.every"]')).toBe('lr-drop.every')
  expect(hyperValue('lr-drop.every')).toBe('hyper["lr-drop.every"]')
  expect(hyperValue('net.depth')).toBe('hyper.net.depth')
  expect(sortOf('hyper.lr')).toBe('hyper.lr')
  expect(sortOf('curve')).toBe('')
})

it('writes numbers as asked', () => {
  expect(formatted(0.98765, '%')).toBe('98.8 %')
  expect(formatted(12345.678, 'e')).toBe('1.235e+4')
  expect(formatted(0.1 + 0.2, 'all')).toBe('0.30000000000000004')
  expect(formatted('Infinity', '%')).toBe('Infinity')
  expect(widthFor(['x'])).toBe(56)
  expect(widthFor(['x'.repeat(99)])).toBe(140)
})
