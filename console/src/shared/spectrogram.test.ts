import { expect, test } from 'vitest'
import { rateOf, spectrogram } from './spectrogram'

const tone = (hertz: number, rate: number, seconds: number) =>
  Float32Array.from({ length: rate * seconds }, (_, i) => Math.sin((2 * Math.PI * hertz * i) / rate))

test('a tone is loudest in its own band, and nothing is above it', () => {
  const grid = spectrogram(tone(1000, 8000, 2))
  if (!grid) throw new Error('nothing was drawn')
  expect([grid.rows, grid.columns]).toEqual([256, 122])
  for (const c of [0, 60, 121]) {
    const column = Array.from({ length: grid.rows }, (_, r) => grid.values[r * grid.columns + c] ?? NaN)
    expect(column.indexOf(Math.max(...column))).toBe(64) // 1000 of 4000 Hz
    expect(Math.max(...column)).toBeGreaterThan(-1)
    expect(column[200]).toBe(-80)
  }
})

test('a tone that begins late is silent before', () => {
  const late = new Float32Array(8000)
  late.set(tone(500, 8000, 0.5), 4000)
  const grid = spectrogram(late, 20)
  expect(grid?.columns).toBe(20)
  expect(grid?.values[32 * 20]).toBe(-80)
  expect(grid?.values[32 * 20 + 19]).toBeGreaterThan(-3)
})

test('what is too short, or silent, is not drawn', () => {
  expect(spectrogram(new Float32Array(100))).toBeUndefined()
  expect(spectrogram(new Float32Array(8000))).toBeUndefined()
})

test('the rate of a WAV file is read, and odd ones are not believed', () => {
  const wav = new DataView(new ArrayBuffer(44))
  wav.setUint32(0, 0x52494646)
  wav.setUint32(24, 8000, true)
  expect(rateOf(wav.buffer)).toBe(8000)
  wav.setUint32(24, 1, true)
  expect(rateOf(wav.buffer)).toBe(44_100)
  expect(rateOf(new ArrayBuffer(3))).toBe(44_100)
})
