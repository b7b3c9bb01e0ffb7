import type { Grid } from './npy'

/** So many decibels below the loudest are drawn. */
const reach = 80

/**
 * The spectrogram of a sound: a column a moment, a row a band of equal width from 0 Hz up to half the rate, in decibels
 * below the loudest, at least -80. By the discrete Fourier transform of so many samples (a power of two) under a Hann
 * window; of a long sound, columns stand apart.
 */
export function spectrogram(samples: Float32Array, columns = 300, size = 512): Grid | undefined {
  if (samples.length < size) return undefined
  const across = Math.min(columns, 1 + Math.floor((samples.length - size) / (size / 4)))
  const rows = size / 2
  const values = new Float64Array(rows * across)
  const hann = Float64Array.from({ length: size }, (_, i) => 0.5 - 0.5 * Math.cos((2 * Math.PI * i) / size))
  const [re, im] = [new Float64Array(size), new Float64Array(size)]
  let loudest = 0
  for (let c = 0; c < across; c++) {
    const from = across > 1 ? Math.round((c * (samples.length - size)) / (across - 1)) : 0
    for (let i = 0; i < size; i++) {
      re[i] = (samples[from + i] ?? 0) * (hann[i] ?? 0)
      im[i] = 0
    }
    transform(re, im)
    for (let r = 0; r < rows; r++) {
      const power = (re[r] ?? 0) ** 2 + (im[r] ?? 0) ** 2
      values[r * across + c] = power
      loudest = Math.max(loudest, power)
    }
  }
  if (loudest === 0) return undefined
  for (let i = 0; i < values.length; i++) {
    values[i] = Math.max(-reach, 10 * Math.log10((values[i] ?? 0) / loudest + 1e-12))
  }
  return { rows, columns: across, values }
}

/** The discrete Fourier transform in place (Cooley and Tukey 1965), of a power of two. */
function transform(re: Float64Array, im: Float64Array) {
  const n = re.length
  for (let i = 1, j = 0; i < n; i++) {
    let bit = n >> 1
    for (; j & bit; bit >>= 1) j ^= bit
    j ^= bit
    if (i < j) {
      ;[re[i], re[j]] = [re[j] ?? 0, re[i] ?? 0]
      ;[im[i], im[j]] = [im[j] ?? 0, im[i] ?? 0]
    }
  }
  for (let length = 2; length <= n; length <<= 1) {
    const angle = (-2 * Math.PI) / length
    for (let i = 0; i < n; i += length) {
      for (let k = 0; k < length / 2; k++) {
        const [cos, sin] = [Math.cos(angle * k), Math.sin(angle * k)]
        const [a, b] = [i + k, i + k + length / 2]
        const [br, bi] = [re[b] ?? 0, im[b] ?? 0]
        const [tr, ti] = [br * cos - bi * sin, br * sin + bi * cos]
        re[b] = (re[a] ?? 0) - tr
        im[b] = (im[a] ?? 0) - ti
        re[a] = (re[a] ?? 0) + tr
        im[a] = (im[a] ?? 0) + ti
      }
    }
  }
}

/** The rate of a WAV file, at which nothing is made up; of other files 44,100. */
export function rateOf(content: ArrayBuffer): number {
  const view = new DataView(content)
  if (content.byteLength < 28 || view.getUint32(0) !== 0x52494646) return 44_100
  const rate = view.getUint32(24, true)
  return rate >= 3000 && rate <= 192_000 ? rate : 44_100
}
