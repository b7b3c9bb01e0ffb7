import type { Figure } from '../api/client'

/** A number of the API: a number, or the name of one that JSON cannot write. */
export type Float = number | 'NaN' | 'Infinity' | '-Infinity'

/** The number itself. */
export function toNumber(v: Float | undefined): number {
  return v === undefined ? NaN : Number(v)
}

/** Four significant digits, as the command line writes them. */
export function number(v: Float | undefined): string {
  const n = toNumber(v)
  if (Number.isNaN(n)) return 'NaN'
  if (!Number.isFinite(n)) return n > 0 ? 'Infinity' : '-Infinity'
  if (Number.isInteger(n) && Math.abs(n) < 1e7) return String(n)
  const size = Math.abs(n)
  if (size !== 0 && (size < 1e-4 || size >= 1e5)) return n.toExponential(3).replace('e+', 'e')
  return n.toPrecision(4)
}

export function figure(f: Figure | undefined): string {
  return f ? number(f.value) : ''
}

/** Where a figure stands, as in an address. */
export function place(f: { epoch: Float; step: number } | undefined): string {
  if (!f) return ''
  return f.epoch === 'NaN' ? `@s${f.step}` : `@e${Number(toNumber(f.epoch).toPrecision(4))}`
}

const units = ['B', 'kB', 'MB', 'GB', 'TB']

/** A size in decimal units, three significant digits. */
export function bytes(n: number): string {
  let unit = 0
  while (n >= 999.5 && unit < units.length - 1) {
    n /= 1000
    unit++
  }
  return `${unit === 0 ? n : n.toPrecision(3)} ${units[unit]}`
}

/** How long something took. */
export function duration(ms: number): string {
  const s = Math.max(0, ms) / 1000
  if (s < 60) return `${s < 10 ? s.toFixed(1) : Math.round(s)} s`
  if (s < 3600) return `${Math.floor(s / 60)} min ${Math.round(s % 60)} s`
  return `${Math.floor(s / 3600)} h ${Math.round((s % 3600) / 60)} min`
}

export function took(started: string, ended: string | undefined, now = Date.now()): string {
  return duration((ended ? Date.parse(ended) : now) - Date.parse(started))
}

/** How long a run took, or has taken: the time of its legs, not what lay between them. */
export function tookRun(r: { took: number; since?: string; started: string; state: string }, now = Date.now()): string {
  const running = r.state === 'running' ? Math.max(0, now - Date.parse(r.since ?? r.started)) : 0
  return duration(r.took * 1000 + running)
}

export function when(time: string): string {
  const d = new Date(time)
  const two = (n: number) => String(n).padStart(2, '0')
  const clock = `${two(d.getHours())}:${two(d.getMinutes())}`
  if (d.toDateString() === new Date().toDateString()) return clock
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${clock}`
}

/** How long until a day to come. */
export function until(time: string, now = Date.now()): string {
  const days = Math.round((Date.parse(time) - now) / 86400e3)
  return days < 1 ? 'today' : days === 1 ? 'tomorrow' : `in ${days} days`
}

/** The console's path of an address: a project, a run, or a checkpoint. */
export function linkTo(address: string): string {
  const [run, at] = address.split('@')
  return '/' + run + (at ? '/checkpoints/' + at : '')
}

/** A hyperparameter as people type it. */
export function hyper(v: unknown): string {
  return typeof v === 'string' ? v : JSON.stringify(v)
}

/** Takes a curve's name apart: measure, and split or "". */
export function splitName(name: string): { measure: string; split: string } {
  const m = /^(.+)\.(train|val|test)$/.exec(name)
  return m ? { measure: m[1], split: m[2] } : { measure: name, split: '' }
}
