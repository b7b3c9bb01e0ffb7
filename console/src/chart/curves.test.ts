import { encode, Token, Type } from 'cborg'
import { expect, it } from 'vitest'
import { decodeCurves } from '../api/cbor'
import { draw, families, merge, type Look } from './curves'

const look: Look = {
  names: [],
  axis: 'step',
  from: null,
  to: null,
  pixels: 100,
  smooth: 0,
  median: false,
  started: 1000,
}

const read = (name: string, step: number[], value: number[], more = {}) => ({
  legs: 1,
  width: 10,
  axes: [{ step, epoch: step.map((s) => s / 10), time: step.map((s) => 1000 + s) }],
  curves: [{ name, axis: 0, value, ...more }],
})

it('puts what came in place of the last pixel and behind it', () => {
  const have = draw(read('loss.val', [10, 19], [1, 0.5]), look)
  const came = draw(read('loss.val', [15, 25], [NaN, 0.4], { min: [0.3, 0.4], max: [0.6, 0.4], count: [5, 1] }), look)
  const got = merge(have, came, 10.5)
  expect(got[0].step).toEqual([10, 15, 25])
  expect(got[0].value).toEqual([1, NaN, 0.4])
  expect(got[0].min).toEqual([1, 0.3, 0.4])
  expect(got[0].count).toEqual([1, 5, 1])
  expect(have[0].step).toEqual([10, 19])
})

it('places readings by each axis', () => {
  const at = (axis: Look['axis']) => draw(read('a', [20], [1]), { ...look, axis })[0].x
  expect(at('step')).toEqual([20])
  expect(at('epoch')).toEqual([2])
  expect(at('since')).toEqual([0.02])
  expect(at('clock')).toEqual([1.02])
})

it('decodes typed arrays, bit for bit', () => {
  const tagged = (tag: number, bytes: number[]) => [
    new Token(Type.tag, tag),
    new Token(Type.bytes, new Uint8Array(bytes)),
  ]
  class Typed {
    constructor(
      readonly tag: number,
      readonly bytes: number[],
    ) {}
  }
  const data = encode(
    {
      a: new Typed(78, [255, 255, 255, 255]),
      b: new Typed(79, [0, 0, 0, 0, 1, 0, 0, 0]),
      c: new Typed(85, [0, 0, 192, 127, 0, 0, 0, 63]),
    },
    { typeEncoders: { Object: (o: unknown) => (o instanceof Typed ? tagged(o.tag, o.bytes) : null) } },
  )
  const got = decodeCurves(data) as unknown as Record<string, ArrayLike<number>>
  expect(Array.from(got.a)).toEqual([-1])
  expect(Array.from(got.b)).toEqual([2 ** 32])
  expect(Array.from(got.c)).toEqual([NaN, 0.5])
})

it('orders families: the objective, then those with validation, then the rest', () => {
  const all = [
    'accuracy.val',
    'gradient',
    'loss.train',
    'loss.val',
    'a',
    'overlap.tug.val',
    'overlap.ferry.val',
    'host.net.in',
    'host.net.out',
  ]
  expect(families(all, 'loss.val').map((f) => f.family)).toEqual([
    'loss',
    'accuracy',
    'overlap',
    'a',
    'gradient',
    'host.net',
  ])
})
