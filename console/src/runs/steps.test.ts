import { expect, test } from 'vitest'
import { steps } from './steps'

const now = Date.parse('2026-11-11T00:00:00Z')
const on = (day: number, best: number) => ({ started: `2026-11-${String(day).padStart(2, '0')}T00:00:00Z`, best })

test('a step at each improvement, and on to now', () => {
  expect(steps([on(1, 0.6), on(6, 0.2)], now, 140, 24)).toEqual({ path: 'M4 4H70V20H136', x: 70, y: 20 })
  expect(steps([on(1, 0.2), on(6, 0.6)], now, 140, 24)?.path).toBe('M4 20H70V4H136')
})

test('one is a line in the middle, none is nothing', () => {
  expect(steps([on(11, 0.6)], now, 140, 24)).toEqual({ path: 'M4 12H136', x: 4, y: 12 })
  expect(steps([], now, 140, 24)).toBeNull()
})

test('one that began ahead of now ends the line, and none goes back', () => {
  expect(steps([on(6, 0.6), on(1, 0.2)], now, 140, 24)?.path).toBe('M4 4H4V20H136')
  expect(steps([on(1, 0.6), on(21, 0.2)], now, 140, 24)?.path).toBe('M4 4H136V20H136')
})
