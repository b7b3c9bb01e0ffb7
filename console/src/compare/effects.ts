import type { Mattered } from '../api/client'
import { number, toNumber } from '../shared/format'

type Influence = NonNullable<Mattered['influences']>[number]

/** A hyperparameter's effect as it is drawn: places along its axis, from 0 to 1 by scale. */
export interface Effect {
  name: string
  influence: Influence
  words: boolean
  says: string
  scale: (at: number) => number
  places: { at: number; text: string; mean: number; low: number; high: number }[]
  points: { run: number; at: number; text: string; figure: number }[]
  ticks: { at: number; text: string; anchor: 'start' | 'middle' | 'end' }[]
}

const plain = (v: unknown) => (typeof v === 'string' ? v : JSON.stringify(v))

/** The share of runs whose figures set the axis; those beyond are counted. A run that came to nothing would flatten the rest. */
const shownShare = 0.95

/** Round numbers that divide a range into about three parts. */
export function ticksOf(low: number, high: number): number[] {
  const rough = (high - low) / 3
  if (!(rough > 0)) return [low]
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((f) => f * power).find((s) => s >= rough) ?? 10 * power
  const out: number[] = []
  for (let v = Math.ceil(low / step) * step; v <= high + step * 1e-9; v += step) out.push(Number(v.toPrecision(12)))
  return out
}

/** The words under an axis: all where they have room, else only the one that is best. */
function wordTicks(places: Effect['places'], best: Effect['places'][number]) {
  const short = (text: string) => (text.length > 15 ? text.slice(0, 14) + '…' : text)
  if (places.length <= 3) return places.map((p) => ({ at: p.at, text: short(p.text), anchor: 'middle' as const }))
  const place = (best.at + 0.5) / places.length
  const anchor = place < 0.25 ? ('start' as const) : place > 0.75 ? ('end' as const) : ('middle' as const)
  return [{ at: best.at, text: 'best ' + short(best.text), anchor }]
}

/** What is drawn of the effects: a figure's axis for all, and each hyperparameter with its own. */
export function effectsOf(m: Mattered) {
  const influences = m.influences ?? []
  const drawn = influences.filter((i) => (i.effects?.length ?? 0) > 1)
  const figures = (m.points ?? []).map((p) => toNumber(p.figure)).sort((a, b) => a - b)
  const predicted = drawn.flatMap((i) => (i.effects ?? []).flatMap((e) => [toNumber(e.low), toNumber(e.high)]))
  const kept = figures.slice(0, Math.max(1, Math.ceil(figures.length * shownShare)))
  const better = m.lower ? kept : figures.slice(figures.length - kept.length)
  const all = [...better, ...predicted].filter(Number.isFinite)
  const low = Math.min(...all)
  const high = Math.max(...all)
  const pad = (high - low || Math.abs(high) || 1) * 0.04
  const range: [number, number] = [low - pad, high + pad]
  const inside = (v: number) => v >= range[0] && v <= range[1]
  const cut = figures.filter((v) => !inside(v)).length
  const list = drawn.map((influence): Effect => {
    const given = influence.effects ?? []
    const words = given.some((e) => typeof e.value !== 'number' && typeof e.value !== 'boolean')
    const values = given.map((e) => plain(e.value))
    const at = (v: unknown) => (words ? values.indexOf(plain(v)) : Number(v))
    const places = given.map((e) => ({
      at: at(e.value),
      text: plain(e.value),
      mean: toNumber(e.mean),
      low: toNumber(e.low),
      high: toNumber(e.high),
    }))
    const points = (m.points ?? [])
      .filter((p) => p.hyper?.[influence.name] !== undefined)
      .map((p) => ({
        run: p.run,
        at: at(p.hyper[influence.name]),
        text: plain(p.hyper[influence.name]),
        figure: toNumber(p.figure),
      }))
      .filter((p) => inside(p.figure) && p.at >= 0 && Number.isFinite(p.at))
    const from = Math.min(...places.map((p) => p.at))
    const to = Math.max(...places.map((p) => p.at))
    const log = !words && from > 0 && to / from >= 50
    const on = (v: number) => (log ? Math.log10(v) : v)
    const spread = on(to) - on(from) || 1
    const scale = words ? (v: number) => (v + 0.5) / places.length : (v: number) => (on(v) - on(from)) / spread
    const best = places.reduce((a, b) => (m.lower === b.mean < a.mean ? b : a))
    const ticks = words
      ? wordTicks(places, best)
      : [
          { at: from, text: number(from), anchor: 'start' as const },
          ...(log ? [{ at: Math.sqrt(from * to), text: number(Math.sqrt(from * to)), anchor: 'middle' as const }] : []),
          { at: to, text: number(to), anchor: 'end' as const },
        ]
    return {
      name: influence.name,
      influence,
      words,
      says: `best at ${best.text}, where ${number(best.mean)} is predicted`,
      scale,
      places,
      points,
      ticks,
    }
  })
  const others = influences.filter((i) => !drawn.includes(i)).map((i) => i.name)
  return { list, range, ticks: ticksOf(...range), cut, others }
}
