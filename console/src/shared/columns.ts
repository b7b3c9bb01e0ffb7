import { reactive } from 'vue'
import type { Run, Words } from '../api/client'
import { hyper, number, place, tookRun, when, type Float } from './format'

/** A column of the table of runs: what it says is a value of the filter language, or one of the console's own. */
export interface Column {
  what: string
  label: string
  numeric: boolean
  width: number
  format: string
}

/** Ways to write numbers; '' is four significant digits. */
export const formats = [
  { value: '', label: '4 digits' },
  { value: '2', label: '2 digits' },
  { value: '6', label: '6 digits' },
  { value: 'all', label: 'all digits' },
  { value: '%', label: 'per cent' },
  { value: 'e', label: 'power of ten' },
]

export function formatted(v: Float, format: string): string {
  const n = Number(v)
  if (!format || !Number.isFinite(n)) return number(v)
  if (format === 'all') return String(n)
  if (format === '%') return (100 * n).toFixed(1) + ' %'
  if (format === 'e') return n.toExponential(3)
  return String(Number(n.toPrecision(Number(format))))
}

/** What the console shows of a run without asking for a value, and by what it is sorted; '' cannot be. */
export const own: Record<
  string,
  { label: string; numeric?: boolean; width: number; sort: string; text?: (r: Run, now: number) => string }
> = {
  curve: { label: 'Curve', width: 136, sort: '' },
  verdict: { label: 'Verdict', width: 88, sort: 'verdict' },
  best: { label: 'Best', numeric: true, width: 66, sort: 'best' },
  place: { label: 'at', width: 48, sort: '', text: (r) => place(r.best) },
  last: { label: 'Last', numeric: true, width: 66, sort: 'last' },
  against: { label: 'To baseline', numeric: true, width: 84, sort: '' },
  state: { label: 'State', width: 84, sort: 'state' },
  who: { label: 'Who', width: 52, sort: 'who', text: (r) => r.who },
  host: { label: 'Host', width: 100, sort: 'host', text: (r) => r.host },
  started: { label: 'Started', width: 100, sort: 'started', text: (r) => when(r.started) },
  took: { label: 'Took', numeric: true, width: 62, sort: 'took', text: (r, now) => tookRun(r, now) },
  tags: { label: 'Tags', width: 120, sort: '', text: (r) => (r.tags ?? []).join(', ') },
  note: { label: 'Note', width: 180, sort: 'note', text: (r) => r.note ?? '' },
}

/** Headings of the fields of a run, once the service has said them. */
const fieldLabels = reactive<Record<string, string>>({})

/** Takes the headings from what a project has for columns. */
export function learnLabels(words: Words) {
  for (const f of words.fields) fieldLabels[f.name] = f.label
}

/** Whether a value is a field of a run, whose heading the service knows. */
export const isField = (what: string) => !own[what] && /^[a-z]+$/.test(what)

/** A short name of a value for a column's head. */
export function labelOf(what: string): string {
  if (own[what]) return own[what].label
  if (fieldLabels[what]) return fieldLabels[what]
  const name = /^hyper\.([\w.]+)$/.exec(what) ?? /^hyper\["(.+)"\]$/.exec(what)
  if (name) return name[1]
  const curve = /^(best|last|lowest|highest|at)\("(.+)"\)$/.exec(what)
  if (curve) return curve[1] === 'at' ? `${curve[2]} at best` : `${curve[1]} ${curve[2]}`
  return what
}

/** A hyperparameter in the filter language. */
export const hyperValue = (name: string) =>
  /^[A-Za-z_]\w*(\.[A-Za-z_]\w*)*$/.test(name) ? `hyper.${name}` : `hyper[${JSON.stringify(name)}]`

/** What is sorted by when a column's head is clicked; '' where it cannot be. */
export const sortOf = (what: string) => (own[what] ? own[what].sort : what)

/** Takes a list apart at its commas; those in quotes and brackets do not count. */
export function splitList(text: string): string[] {
  const out: string[] = []
  let depth = 0
  let quoted = false
  let word = ''
  for (const c of text) {
    if (c === '"') quoted = !quoted
    else if (!quoted && '(['.includes(c)) depth++
    else if (!quoted && ')]'.includes(c)) depth--
    if (c === ',' && !quoted && depth <= 0) {
      out.push(word.trim())
      word = ''
    } else word += c
  }
  if (word.trim()) out.push(word.trim())
  return out
}

/** Widths that fit what columns of values hold. */
export type Fitting = Record<string, number>
const usualWidth = (what: string, fitting: Fitting) => fitting[what] ?? own[what]?.width ?? 84

/** The width for some texts. */
export const widthFor = (texts: string[]) =>
  Math.min(140, Math.max(56, 7.4 * Math.max(0, ...texts.map((t) => t.length)) + 16))

/** Columns as the link says them: values, widths and formats by place. */
export function readColumns(columns: string, widths: string, formatsText: string, fitting: Fitting = {}): Column[] {
  const byPlace = (text: string) => new Map(text.split(',').map((p) => p.split(':') as [string, string]))
  const wide = byPlace(widths)
  const how = byPlace(formatsText)
  return splitList(columns).map((what, i) => ({
    what,
    label: labelOf(what),
    numeric: own[what] ? !!own[what].numeric : true,
    width: Math.min(600, Math.max(40, Number(wide.get(String(i))) || usualWidth(what, fitting))),
    format: how.get(String(i)) ?? '',
  }))
}

/** The other way round; widths and formats that are usual are left out. */
export function writeColumns(list: Column[], fitting: Fitting = {}) {
  const usual = (c: Column) => usualWidth(c.what, fitting)
  return {
    columns: list.map((c) => c.what).join(','),
    widths: list.flatMap((c, i) => (c.width === usual(c) ? [] : [`${i}:${Math.round(c.width)}`])).join(','),
    formats: list.flatMap((c, i) => (c.format ? [`${i}:${c.format}`] : [])).join(','),
  }
}

/** Values that have to be asked for: those that are none of the console's own. */
export const asked = (list: Column[]) => list.map((c) => c.what).filter((w) => !own[w])

/** The text of a cell. */
export function cellText(c: Column, r: Run, values: string[], now: number): string {
  if (c.what === 'best') return r.best ? formatted(r.best.value, c.format) : ''
  if (c.what === 'last') return r.last ? formatted(r.last.value, c.format) : ''
  if (c.what === 'against') {
    const v = r.against_baseline
    return v === undefined ? '' : (Number(v) > 0 ? '+' : '') + formatted(v, c.format)
  }
  if (c.what === 'verdict') return r.verdict?.kind ?? ''
  if (c.what === 'state') return r.state
  const text = own[c.what]?.text
  if (text) return text(r, now)
  const v = r.values?.[values.indexOf(c.what)]
  if (v === null || v === undefined) return ''
  if (typeof v === 'number') return formatted(v, c.format || (c.what.startsWith('hyper') ? '6' : ''))
  if (c.what === 'ended') return when(hyper(v))
  if (c.what === 'commit') return hyper(v).slice(0, 10)
  return hyper(v)
}
