import type { Comparison, Learning } from '../api/client'
import type { Axis, Drawn } from '../chart/curves'
import { splitName } from '../shared/format'

/** Colour and dash of the n-th group or run of a view; they stay the same on all its drawings. */
export function lookOf(i: number): { colour: string; dash?: number[] } {
  const colour = `--c${(i % 8) + 1}`
  return Math.floor(i / 8) % 2 === 1 ? { colour, dash: [9, 3, 2, 3] } : { colour }
}

/** Which group of a comparison a line is of: its place in the ranking. */
export const groupOf = (c: Comparison, runs: number[]) =>
  Math.max(
    0,
    (c.groups ?? []).findIndex((g) => runs.some((n) => g.runs.includes(n))),
  )

const plain = (list: ArrayLike<number | string> | null | undefined) => Array.from(list ?? [], Number)

/** Lines of a comparison as they are drawn; where each run has one, those of a group share its colour. */
export function drawnLines(c: Comparison, learning: Learning, name: string, less: boolean): Drawn[] {
  return (learning.lines ?? [])
    .filter((l) => l.name === name && (!less || (l.less_x?.length && !l.baseline)))
    .map((l) => {
      const x = plain(less ? l.less_x : l.x)
      const y = plain(less ? l.less_y : l.y)
      const text = l.runs.length === 1 && (c.runs?.length ?? 0) > 4 ? String(l.runs[0]) : l.label
      const out: Drawn = {
        name: `${name} of ${l.runs.join(', ')}`,
        ...splitName(name),
        look: { label: text, ...lookOf(groupOf(c, l.runs)) },
        x,
        step: x,
        epoch: learning.by === 'epoch' ? x : x.map(() => NaN),
        time: x,
        value: y,
      }
      if (!less && l.raw?.length) {
        out.smooth = y
        out.value = plain(l.raw)
      }
      if (!less && l.low?.length && l.high?.length) {
        out.min = plain(l.low)
        out.max = plain(l.high)
      }
      return out
    })
}

/** The axis of a chart for an axis of the service. */
export const axisOf = (by: string): Axis => (by === 'time' ? 'since' : (by as Axis))
