import { toNumber, type Float } from '../shared/format'

/** A run that beat all before it. */
export interface Step {
  started: string
  best: Float
}

/**
 * The path of a line that goes down or up a step at each improvement and on to now, and where the last one is; null
 * where there is none. Where clocks differ, or old runs were imported after newer ones, a step is never left of the one
 * before it.
 */
export function steps(items: Step[], now: number, width: number, height: number) {
  if (!items.length) return null
  const times = items.map((i) => Date.parse(i.started))
  for (let i = 1; i < times.length; i++) times[i] = Math.max(times[i], times[i - 1])
  const bests = items.map((i) => toNumber(i.best))
  const from = times[0]
  const upto = Math.max(now, times[times.length - 1])
  const [low, high] = [Math.min(...bests), Math.max(...bests)]
  const round = (v: number) => Number(v.toFixed(1))
  const x = (t: number) => round(4 + ((t - from) / (upto - from || 1)) * (width - 8))
  const y = (v: number) => round(height - 4 - (high > low ? (v - low) / (high - low) : 0.5) * (height - 8))
  let path = `M${x(times[0])} ${y(bests[0])}`
  for (let i = 1; i < items.length; i++) path += `H${x(times[i])}V${y(bests[i])}`
  const last = items.length - 1
  return { path: `${path}H${width - 4}`, x: x(times[last]), y: y(bests[last]) }
}
