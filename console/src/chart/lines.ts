import uPlot from 'uplot'
import type { Drawn } from './curves'

/** What is said of a curve where its label is not drawn. */
export const titleOf = (l: Line) => l.curve.look?.label || l.label || l.curve.name

/** What one curve puts into a chart: its line, the raw line behind a smoothed one, and the envelope of what fell on one pixel. */
export interface Line {
  curve: Drawn
  label: string
  colour: string
  dash?: number[]
  main: number[]
  raw?: number[]
  low?: number[]
  high?: number[]
}

export const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/** A line's colour as that of text: dark enough to read on paper, light enough in the dark. */
export const legible = (colour: string) => `color-mix(in srgb, ${colour} 66%, var(--ink))`

const palette = ['--c1', '--c2', '--c3', '--c4', '--c5', '--c6', '--c7', '--c8']

/** Values beyond this cannot be drawn: the distance between two of them is infinite. */
const most = 1e300
export const drawable = (v: number | undefined) => v !== undefined && Number.isFinite(v) && Math.abs(v) < most

/** A label as it fits beside a line. */
const shortened = (text: string) => (text.length > 18 ? text.slice(0, 17) + '…' : text)

/** The lines of a chart. Curves of one measure are told apart by their split, those of a family by colour, then by a second dash. */
export function linesOf(curves: Drawn[]): Line[] {
  const measures = [...new Set(curves.map((c) => c.measure))]
  return curves.map((c) => {
    const i = measures.indexOf(c.measure)
    const single = measures.length === 1
    const name = single ? (c.split === 'test' ? '--c2' : c.split === '' ? '--c3' : '--c1') : palette[i % palette.length]
    const raw = c.mean ?? c.value
    const line: Line = {
      curve: c,
      label: single ? c.split || c.name : c.name.split('.').slice(1).join('.') || c.name,
      colour: css(name),
      main: c.smooth ?? raw,
    }
    if (c.parent) line.label = ''
    if (c.look) {
      Object.assign(line, { label: shortened(c.look.label), colour: css(c.look.colour), dash: c.look.dash })
    } else if (c.split === 'train') line.dash = [5, 3]
    else if (!single && i >= palette.length) line.dash = [9, 3, 2, 3]
    if (c.smooth) line.raw = raw
    if (c.min && c.max && (c.look || c.count?.some((n) => n > 1))) {
      line.low = c.min
      line.high = c.max
    }
    return line
  })
}

/** The lines on one axis. Each has up to four series: its own, the raw one, the envelope's upper and lower edge. */
export function tableOf(lines: Line[], hide: number): { data: uPlot.AlignedData; starts: number[] } {
  const starts: number[] = []
  let at = 1
  const tables = lines.map((l) => {
    const columns = [l.main, l.raw, l.high, l.low].filter((c) => c !== undefined)
    starts.push(at)
    at += columns.length
    const keep: number[] = []
    l.curve.x.forEach((x, i) => {
      if (Number.isNaN(x) || (hide > 0 && l.curve.epoch[i] <= hide)) return
      if (keep.length && l.curve.x[keep[keep.length - 1]] === x) keep[keep.length - 1] = i
      else keep.push(i)
    })
    return [keep.map((i) => l.curve.x[i]), ...columns.map((c) => keep.map((i) => (drawable(c[i]) ? c[i] : null)))]
  })
  if (!tables.length) return { data: [[]], starts }
  // Only true gaps stay gaps: where another curve has a reading and this one has none, the line goes on.
  const joined = uPlot.join(
    tables as uPlot.AlignedData[],
    tables.map((t) => t.map((_, i) => (i === 0 ? 0 : 1))),
  )
  return { data: joined, starts }
}

/** Round places from low to high, about so many: multiples of 1, 2 or 5 times a power of ten. */
export function ticks(low: number, high: number, about: number): number[] {
  const span = high - low
  if (!(span > 0) || !Number.isFinite(span)) return [low]
  const raw = span / Math.max(1, about)
  const power = 10 ** Math.floor(Math.log10(raw))
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= raw) ?? 10 * power
  const out: number[] = []
  for (let i = Math.ceil(low / step); i * step <= high + step * 1e-9 && out.length < 50; i++) {
    out.push(Number((i * step).toPrecision(12)))
  }
  return out
}

/** Steps between ticks to choose from, for any size of numbers. */
export function increments(low: number, high: number): number[] {
  const power = 10 ** Math.floor(Math.log10(Math.max(high - low, Number.MIN_VALUE)))
  return [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5].map((m) => m * power)
}

/** Whether a place is 0 or a power of ten: of a logarithmic scale only these have a line. */
export const isPower = (v: number) =>
  v === 0 || Math.abs(Math.log10(Math.abs(v)) - Math.round(Math.log10(Math.abs(v)))) < 1e-9

export function shortNumber(v: number): string {
  if (v !== 0 && (Math.abs(v) >= 1e5 || Math.abs(v) < 1e-3))
    return v.toExponential(1).replace('e+', 'e').replace('.0e', 'e')
  return String(Number(v.toPrecision(6)))
}

/** The lowest size at which a logarithmic scale with zeros and negatives is linear: of the sizes drawn, but no smaller than a millionth
 *  of the highest. */
export function linearBelow(lines: Line[]): number {
  let lowest = Infinity
  let highest = 0
  for (const l of lines) {
    for (const v of l.low ? [...l.main, ...l.low] : l.main) {
      const size = Math.abs(v)
      if (!drawable(v) || size === 0) continue
      lowest = Math.min(lowest, size)
      highest = Math.max(highest, size)
    }
  }
  return highest ? Math.max(lowest, highest / 1e6) : 1
}

export const hasNegative = (lines: Line[]) =>
  lines.some((l) => [l.main, l.low, l.raw].some((c) => c?.some((v) => drawable(v) && v <= 0)))
