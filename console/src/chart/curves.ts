import { shallowRef } from 'vue'
import { readCurves, type ReadCurves } from '../api/cbor'
import { splitName } from '../shared/format'

/** Axes on which curves are looked at; since is the time since the run began. */
export type Axis = 'epoch' | 'step' | 'since' | 'clock'

/** A curve as it is drawn, one entry a pixel: where it stands, the last reading there, and what the others were. */
export interface Drawn {
  name: string
  measure: string
  split: string
  /** Address of the run that the run branched from, where this is that run's curve up to there. */
  parent?: string
  /** How its line looks and is called, where that does not follow from its name. */
  look?: { label: string; colour: string; dash?: number[] }
  x: number[]
  step: number[]
  epoch: number[]
  time: number[]
  value: number[]
  smooth?: number[]
  count?: number[]
  nan?: number[]
  infinite?: number[]
  min?: number[]
  max?: number[]
  mean?: number[]
}

/** What is looked at: which curves, where on the axis (null: to the end), how fine, how smooth. */
export interface Look {
  names: string[]
  axis: Axis
  from: number | null
  to: number | null
  pixels: number
  smooth: number
  median: boolean
  started: number
}

const lists = ['smooth', 'count', 'nan', 'infinite', 'min', 'max', 'mean'] as const
const plain = (list: ArrayLike<number>) => Array.from(list)

/** Milliseconds on the service's axis for seconds on ours, and back. */
const scaleOf = (axis: Axis) => (axis === 'since' || axis === 'clock' ? 1000 : 1)
const originOf = (look: Look) => (look.axis === 'since' ? look.started : 0)

export function place(look: Look, axis: ReadCurves['axes'][number]): number[] {
  if (look.axis === 'epoch') return plain(axis.epoch)
  if (look.axis === 'step') return plain(axis.step)
  const origin = originOf(look)
  return plain(axis.time).map((t) => (t - origin) / 1000)
}

export function draw(got: ReadCurves, look: Look): Drawn[] {
  const xs = got.axes.map((a) => place(look, a))
  return got.curves.map((c) => {
    const axis = got.axes[c.axis]
    const out: Drawn = {
      name: c.name,
      ...splitName(c.name),
      x: xs[c.axis],
      step: plain(axis.step),
      epoch: plain(axis.epoch),
      time: plain(axis.time),
      value: plain(c.value),
    }
    for (const k of lists) {
      const list = c[k]
      if (list && list.length) out[k] = plain(list)
    }
    return out
  })
}

/** Puts what was read from a place on in place of what stood there. */
export function merge(have: Drawn[], came: Drawn[], from: number): Drawn[] {
  const byName = new Map(have.map((c) => [c.name, c]))
  for (const c of came) {
    const old = byName.get(c.name)
    if (!old) {
      byName.set(c.name, c)
      continue
    }
    let keep = old.x.length
    while (keep > 0 && old.x[keep - 1] >= from) keep--
    const put = (a: number[], b: number[]) => a.slice(0, keep).concat(b)
    const next: Drawn = { ...old }
    for (const k of ['x', 'step', 'epoch', 'time', 'value'] as const) next[k] = put(old[k], c[k])
    for (const k of lists) {
      // A list that only one of them has is filled with what it says of single readings.
      if (!old[k] && !c[k]) continue
      const single = (d: Drawn) =>
        k === 'count' ? d.value.map(() => 1) : k === 'nan' || k === 'infinite' ? d.value.map(() => 0) : d.value
      next[k] = put(old[k] ?? single(old), c[k] ?? single(c))
    }
    byName.set(c.name, next)
  }
  return [...byName.values()].sort((a, b) => (a.name < b.name ? -1 : 1))
}

/** The curves of a branch's parent, up to the branch, as lines of their own. */
export const asParent = (curves: Drawn[], parent: string): Drawn[] =>
  curves.map((c) => ({ ...c, name: `${c.name} of ${parent}`, parent }))

/** The curves of a run as they are looked at; when readings come only the last pixel and what is behind it is read. */
export function useCurves(project: string, number: number) {
  const curves = shallowRef<Drawn[]>([])
  let seen = ''
  let legs = 0
  let width = 0
  let pixels = 0

  /** Reads curves as a look wants them. Where they are not wanted any more when they come, they are let be: false. */
  async function read(look: Look, wanted = () => true): Promise<boolean> {
    if (!look.names.length) return false
    const by = look.axis === 'epoch' ? 'epoch' : look.axis === 'step' ? 'step' : 'time'
    const scale = scaleOf(look.axis)
    const origin = originOf(look)
    const query: Record<string, string | number> = { by, names: look.names.join(',') }
    if (look.smooth > 0) query[look.median ? 'median' : 'smooth'] = look.smooth * scale
    if (look.to !== null) query.to = look.to * scale + origin
    const now = JSON.stringify(look)
    const last = Math.max(-Infinity, ...curves.value.map((c) => c.x[c.x.length - 1] ?? -Infinity))
    const tail = now === seen && width > 0 && Number.isFinite(last) && pixels < 2 * look.pixels
    if (tail) {
      const inside = last * scale + origin
      query.from = Math.floor(inside / width) * width
      query.width = width
    } else {
      query.pixels = look.pixels
      if (look.from !== null) query.from = look.from * scale + origin
    }
    const got = await readCurves(project, number, query)
    if (!wanted()) return false
    if (tail && got.legs !== legs) {
      seen = ''
      return read(look, wanted)
    }
    const came = draw(got, look)
    curves.value = tail ? merge(curves.value, came, ((query.from as number) - origin) / scale) : came
    pixels = Math.max(0, ...curves.value.map((c) => c.x.length))
    seen = now
    legs = got.legs
    width = got.width
    return true
  }
  return { curves, read }
}

/** Curves of one unit stand together: reading and writing, in and out; a GPU's use and its memory do not. */
function familyOf(name: string): string {
  if (!name.startsWith('host.')) return splitName(name).measure.split('.')[0]
  return /^host\.(disk|net)\./.test(name) ? name.split('.').slice(0, 2).join('.') : name
}

/** Whether a family of the machine is in bytes, or bytes a second. */
export const inBytes = (family: string) => /^host\.(disk|net|memory|.*\.memory)$/.test(family)

/** What stands in one chart: the curves of one measure, or of a family such as overlap.tug, overlap.ferry. */
export function families(names: string[], objective: string): { family: string; names: string[] }[] {
  const groups = new Map<string, string[]>()
  for (const n of names) {
    const family = familyOf(n)
    groups.set(family, [...(groups.get(family) ?? []), n])
  }
  const first = splitName(objective).measure.split('.')[0]
  const rank = ([family, list]: [string, string[]]) =>
    family === first ? 0 : list.some((n) => splitName(n).split === 'val') ? 1 : 2
  return [...groups]
    .sort((a, b) => rank(a) - rank(b) || a[0].localeCompare(b[0]))
    .map(([family, list]) => ({ family, names: list.sort() }))
}
