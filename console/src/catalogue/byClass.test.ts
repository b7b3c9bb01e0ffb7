import { expect, test } from 'vitest'
import type { Description } from '../api/client'
import { byClass } from './byClass'

const edition = (number: number, on: string, recalls: Record<string, [number, number, number] | undefined>) =>
  ({
    number,
    classes: [
      {
        on,
        classes: Object.entries(recalls).map(([name, r]) => ({
          name,
          true: 80,
          predicted: 80,
          right: 40,
          recall: r && { value: r[0], low: r[1], high: r[2] },
        })),
      },
    ],
  }) as unknown as Description

test('classes are compared on the same data, beyond noise or within', () => {
  const mine = edition(2, 'hydrophone#2:test', { tug: [0.9, 0.85, 0.95], ferry: [0.7, 0.6, 0.8], trawler: undefined })
  const theirs = edition(1, 'hydrophone#2:test', { tug: [0.6, 0.5, 0.7], ferry: [0.75, 0.65, 0.85] })
  const [on] = byClass(mine, theirs)
  expect(on.compared).toBe(true)
  expect(on.classes.map((c) => [c.name, c.mine, c.theirs, c.says, c.apart])).toEqual([
    ['tug', '0.90 (0.85 to 0.95)', '0.60 (0.50 to 0.70)', '+0.30', 1],
    ['ferry', '0.70 (0.60 to 0.80)', '0.75 (0.65 to 0.85)', '−0.05, within noise', 0],
    ['trawler', '', '', '', 0],
  ])
  const seen = byClass(mine, { ...theirs, seen: ['hydrophone#2:test'] })[0]
  expect([seen.compared, seen.seen]).toEqual([false, [1]])
  expect(byClass(mine, edition(1, 'hydrophone#3:test', { tug: [0.6, 0.5, 0.7] }))[0].compared).toBe(false)
})
