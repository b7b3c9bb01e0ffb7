import { expect, it } from 'vitest'
import { asParent, type Drawn } from './curves'
import { hasNegative, increments, isPower, linearBelow, linesOf, shortNumber, tableOf, ticks, titleOf } from './lines'
import { toCSV } from './save'

const drawn = (name: string, x: number[], value: number[], more: Partial<Drawn> = {}): Drawn => {
  const m = /^(.+)\.(train|val|test)$/.exec(name)
  return {
    name,
    measure: m ? m[1] : name,
    split: m ? m[2] : '',
    x,
    step: x.map((v) => v * 10),
    epoch: x,
    time: x.map((v) => 1000 * v),
    value,
    ...more,
  }
}

it('puts round places on an axis', () => {
  expect(ticks(0, 10, 5)).toEqual([0, 2, 4, 6, 8, 10])
  expect(ticks(0.001, 0.0042, 3)).toEqual([0.002, 0.004])
  expect(ticks(5, 5, 4)).toEqual([5])
  expect(ticks(-3, 3, 3)).toEqual([-2, 0, 2])
  expect(increments(0, 700)).toContain(50)
})

it('labels training and validation by their split, families by their last name, parents not at all', () => {
  const own = linesOf([drawn('loss.train', [1, 2], [1, 0.5]), drawn('loss.val', [1, 2], [1, 0.6])])
  expect(own.map((l) => l.label)).toEqual(['train', 'val'])
  expect(own[0].dash).toEqual([5, 3])
  expect(own[1].dash).toBeUndefined()
  const [parent] = linesOf(asParent([drawn('loss.val', [1], [1])], 'vessels/3'))
  expect(parent.label).toBe('')
  expect(titleOf(parent)).toBe('loss.val of vessels/3')
  expect(linesOf([drawn('overlap.tug', [1], [1]), drawn('overlap.ferry', [1], [1])]).map((l) => l.label)).toEqual([
    'tug',
    'ferry',
  ])
})

it('keeps gaps where a curve has NaN and none where another has a reading', () => {
  const { data, starts } = tableOf(linesOf([drawn('a', [1, 2, 3], [1, NaN, 3]), drawn('b', [2.5], [7])]), 0)
  expect(starts).toEqual([1, 2])
  expect(data[0]).toEqual([1, 2, 2.5, 3])
  expect(data[1]).toEqual([1, null, undefined, 3])
  expect(data[2][2]).toBe(7)
  expect(tableOf(linesOf([drawn('a', [1, 2, 3], [1, 2, 3])]), 2).data[0]).toEqual([3])
})

it('makes a logarithmic scale that copes with zeros and negatives', () => {
  const lines = linesOf([drawn('a', [1, 2, 3], [0.001, -5, 0])])
  expect(hasNegative(lines)).toBe(true)
  expect(linearBelow(lines)).toBe(0.001)
  expect(linearBelow(linesOf([drawn('a', [1, 2], [1e-30, 1e6])]))).toBe(1)
  expect([1000, 0, -10, 0.01].every(isPower)).toBe(true)
  expect(isPower(20)).toBe(false)
  expect([shortNumber(123456), shortNumber(0.0001), shortNumber(0.25)]).toEqual(['1.2e5', '1e-4', '0.25'])
})

it('writes what is seen as CSV, within the window', () => {
  const folded = drawn('loss, val', [1, 2, 3], [1, NaN, 3], {
    count: [1, 4, 1],
    nan: [0, 1, 0],
    min: [1, 0.5, 3],
    max: [1, 9, 3],
  })
  expect(toCSV([folded], 1.5, 3).split('\n')).toEqual([
    'curve,step,epoch,time,value,count,nan,infinite,min,max,mean,smooth',
    '"loss, val",20,2,2000,NaN,4,1,0,0.5,9,,',
    '"loss, val",30,3,3000,3,1,0,0,3,3,,',
    '',
  ])
})
