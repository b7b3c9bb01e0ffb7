import { describe, expect, it } from 'vitest'
import { bytes, duration, hyper, number, place, splitName, tookRun, until } from './format'

describe('numbers', () => {
  it.each([
    [0.41271, '0.4127'],
    [12, '12'],
    ['NaN', 'NaN'],
    ['-Infinity', '-Infinity'],
    [6.382e150, '6.382e150'],
    [0.00001234, '1.234e-5'],
    [-0.5, '-0.5000'],
  ] as const)('writes %s as %s', (v, text) => {
    expect(number(v)).toBe(text)
  })

  it('writes sizes and times', () => {
    expect(bytes(0)).toBe('0 B')
    expect(bytes(999)).toBe('999 B')
    expect(bytes(38900)).toBe('38.9 kB')
    expect(bytes(5_000_100)).toBe('5.00 MB')
    expect(duration(950)).toBe('0.9 s')
    expect(duration(61_000)).toBe('1 min 1 s')
    const run = { took: 17, started: '2026-11-28T07:00:00Z', state: 'finished' }
    expect(tookRun(run)).toBe('17 s')
    const now = Date.parse('2026-11-28T09:00:03Z')
    expect(tookRun({ ...run, state: 'running', since: '2026-11-28T09:00:00Z' }, now)).toBe('20 s')
  })
})

describe('names', () => {
  it('takes them apart', () => {
    expect(splitName('loss.val')).toEqual({ measure: 'loss', split: 'val' })
    expect(splitName('host.cpu')).toEqual({ measure: 'host.cpu', split: '' })
  })
  it('says where a figure stands', () => {
    expect(place({ epoch: 12, step: 480 })).toBe('@e12')
    expect(place({ epoch: 'NaN', step: 480 })).toBe('@s480')
  })
  it('writes hyperparameters', () => {
    expect(hyper('tanh')).toBe('tanh')
    expect(hyper([384, 6])).toBe('[384,6]')
  })
})

describe('days to come', () => {
  const now = Date.parse('2026-11-23T12:00:00Z')
  it.each([
    ['2026-11-23T18:00:00Z', 'today'],
    ['2026-11-22T18:00:00Z', 'today'],
    ['2026-11-24T13:00:00Z', 'tomorrow'],
    ['2026-11-30T12:00:00Z', 'in 7 days'],
  ])('%s is %s', (time, said) => {
    expect(until(time, now)).toBe(said)
  })
})
