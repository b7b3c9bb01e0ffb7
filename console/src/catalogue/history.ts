import type { Edition, Holding } from '../api/client'

/** A stretch of the drawing of an edition's life, in pixels. */
export interface Stretch {
  from: number
  to: number
  held: string
}

/** An edition's line: since when it is there, and while it had which standing. */
export interface Line {
  number: number
  from: number
  stretches: Stretch[]
}

export interface Drawing {
  lines: Line[]
  ticks: { at: number; text: string }[]
  height: number
}

export const lineHeight = 22

/** Draws the history of a standing, the earliest edition first: each line an edition, thick while it had the standing. */
export function draw(
  editions: Pick<Edition, 'number' | 'entered'>[],
  history: Holding[],
  standing: string,
  width: number,
  now = Date.now(),
): Drawing {
  const list = [...editions].sort((a, b) => a.number - b.number)
  const times = list.map((e) => Date.parse(e.entered))
  const first = Math.min(...times, now - 1000)
  const span = Math.max(now - first, 1)
  const x = (t: number) => ((t - first) / span) * width
  const lines = list.map((e) => ({
    number: e.number,
    from: x(Date.parse(e.entered)),
    stretches: history
      .filter((h) => h.standing === standing && h.edition === e.number)
      .map((h) => ({
        from: x(Date.parse(h.since)),
        to: Math.max(x(h.until ? Date.parse(h.until) : now), x(Date.parse(h.since)) + 2),
        held: h.who,
      })),
  }))
  return { lines, ticks: ticks(first, now, x), height: list.length * lineHeight }
}

const units: [number, Intl.DateTimeFormatOptions][] = [
  [1000, { hour: '2-digit', minute: '2-digit', second: '2-digit' }],
  [60_000, { hour: '2-digit', minute: '2-digit' }],
  [3_600_000, { weekday: 'short', hour: '2-digit', minute: '2-digit' }],
  [86_400_000, { day: 'numeric', month: 'short' }],
  [30 * 86_400_000, { month: 'short', year: 'numeric' }],
]

/** At most six marks at whole units of time, as far apart as they have to be. */
function ticks(from: number, to: number, x: (t: number) => number) {
  const unit = [...units].reverse().find(([size]) => to - from >= 2 * size) ?? units[0]
  let step = unit[0]
  while ((to - from) / step > 6) step *= 2
  const out: { at: number; text: string }[] = []
  for (let t = Math.ceil(from / step) * step; t <= to; t += step) {
    out.push({ at: x(t), text: new Date(t).toLocaleString('en-GB', unit[1]) })
  }
  return out
}
