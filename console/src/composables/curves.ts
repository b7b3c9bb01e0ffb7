import { shallowRef } from 'vue'
import { answer, client, type Curve } from '../api/client'
import { splitName, toNumber, type Float } from '../format'

/** A curve as it is drawn: plain arrays, with what the API cannot write as numbers turned back into them. */
export interface Drawn {
  name: string
  measure: string
  split: string
  step: number[]
  epoch: number[]
  time: number[]
  value: number[]
  smooth: number[]
}

const numbers = (list: Float[] | null | undefined) => (list ?? []).map(toNumber)

export function draw(c: Curve): Drawn {
  return {
    name: c.name,
    ...splitName(c.name),
    step: c.step ?? [],
    epoch: numbers(c.epoch),
    time: c.time ?? [],
    value: numbers(c.value),
    smooth: numbers(c.smooth),
  }
}

/** Puts what came since behind what is there. */
export function append(have: Drawn[], came: Drawn[]): Drawn[] {
  const byName = new Map(have.map((c) => [c.name, c]))
  for (const c of came) {
    const old = byName.get(c.name)
    byName.set(
      c.name,
      old
        ? {
            ...old,
            step: old.step.concat(c.step),
            epoch: old.epoch.concat(c.epoch),
            time: old.time.concat(c.time),
            value: old.value.concat(c.value),
          }
        : c,
    )
  }
  return [...byName.values()].sort((a, b) => (a.name < b.name ? -1 : 1))
}

/** The curves of a run, read once and then only what came since. With smoothing all are read anew, as the service computes it. */
export function useCurves(project: string, number: number) {
  const curves = shallowRef<Drawn[]>([])
  let position = ''
  let smoothed = 0

  async function read(smooth: number) {
    if (smooth !== smoothed) position = ''
    const query = smooth > 0 ? { smooth } : position ? { after: position } : {}
    const got = await answer(
      client.GET('/api/v1/projects/{project}/runs/{number}/curves', { params: { path: { project, number }, query } }),
    )
    const came = (got.curves ?? []).map(draw)
    curves.value = got.whole ? came : append(curves.value, came)
    position = got.position
    smoothed = smooth
  }
  return { curves, read }
}

/** Curves by measure: those with the objective first, then those with a training and a validation curve, then the rest. */
export function byMeasure(curves: Drawn[], objective: string): { measure: string; curves: Drawn[] }[] {
  const groups = new Map<string, Drawn[]>()
  for (const c of curves) groups.set(c.measure, [...(groups.get(c.measure) ?? []), c])
  const first = splitName(objective).measure
  const rank = ([measure, list]: [string, Drawn[]]) =>
    measure === first ? 0 : list.some((c) => c.split === 'val') ? 1 : 2
  return [...groups]
    .sort((a, b) => rank(a) - rank(b) || a[0].localeCompare(b[0]))
    .map(([measure, list]) => ({ measure, curves: list }))
}
