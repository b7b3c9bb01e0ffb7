import { mount } from '@vue/test-utils'
import { expect, test } from 'vitest'
import type { Run } from '../api/client'
import Sketch from './Sketch.vue'

const drawn = (sketch: unknown[], direction: 'lower' | 'higher' = 'lower') =>
  mount(Sketch, { props: { run: { sketch, objective: { curve: 'loss.val', direction } } as unknown as Run } })

test('marks the best reading by the objective', () => {
  const x = (w: ReturnType<typeof drawn>) => Number(w.find('circle').attributes('cx'))
  expect(x(drawn([3, 1, 2]))).toBe(64)
  expect(x(drawn([3, 1, 2], 'higher'))).toBe(4)
  expect(drawn([3, 1, 2]).find('svg').attributes('aria-label')).toBe('curve of loss.val')
})

test('breaks off where it was not a number, with a cross', () => {
  const w = drawn([3, 'NaN', 2, 1])
  expect(w.findAll('path')).toHaveLength(2)
  expect(w.find('path').attributes('d')).toMatch(/^M[^L]+M[^L]+L/)
  expect(drawn([3, 2]).findAll('path')).toHaveLength(1)
})

test('is nothing where there is nothing', () => {
  expect(drawn([]).find('svg').exists()).toBe(false)
  expect(drawn(['NaN', 'Infinity']).find('svg').exists()).toBe(false)
})

test('a first reading far off does not flatten the rest', () => {
  const w = drawn([1000, ...Array.from({ length: 20 }, (_, i) => 2 - i / 20)])
  const ys = [...(w.find('path').attributes('d') ?? '').matchAll(/[ML][\d.]+ ([\d.]+)/g)].map((m) => Number(m[1]))
  expect(Math.max(...ys.slice(1)) - Math.min(...ys.slice(1))).toBeGreaterThan(5)
})
