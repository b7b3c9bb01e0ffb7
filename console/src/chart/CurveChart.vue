<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import {
  css,
  hasNegative,
  increments,
  isPower,
  legible,
  linearBelow,
  linesOf,
  shortNumber,
  tableOf,
  ticks,
  titleOf,
} from './lines'
import { drawMarks, type Best, type Flag } from './marks'
import { download, toCSV, toPNG, toSVG } from './save'
import type { Axis, Drawn } from './curves'
import { dark } from '../shared/theme'
import { bytes as sized, duration, number } from '../shared/format'
import FigureHead from './FigureHead.vue'

const props = defineProps<{
  title: string
  file: string
  curves: Drawn[]
  axis: Axis
  scale: string
  hide: number
  from: number | null
  to: number | null
  best?: Best
  flags?: Flag[]
  height?: number
  bytes?: boolean
}>()
const emit = defineEmits<{
  zoom: [from: number | null, to: number | null]
  area: [left: number, width: number, low: number, high: number]
}>()

const host = ref<HTMLElement>()
const tip = ref<{
  left: number
  flip: boolean
  head: string
  rows: { label: string; text: string; colour: string }[]
} | null>(null)
const asTable = ref(false)
const focus = ref('')
let plot: uPlot | null = null
let starts: number[] = []
let setting = false

const lines = computed(() => (void dark.value, linesOf(props.curves)))
const high = computed(() => props.height ?? 230)

const clock = (s: number) => new Date(s * 1000).toTimeString().slice(0, 8)

function axisText(v: number): string {
  if (props.axis === 'clock') return clock(v)
  if (props.axis === 'since') return v === 0 ? '0' : duration(v * 1000)
  return number(Math.round(v * 100) / 100)
}

const times = computed(() => props.axis === 'clock' || props.axis === 'since')

function xTicks(low: number, top: number, about: number): number[] {
  if (!times.value) return ticks(low, top, about)
  const steps = [
    1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 28800, 43200, 86400, 172800, 604800,
  ]
  const step = steps.find((s) => s >= (top - low) / about)
  if (!step || top - low < about) return ticks(low, top, about)
  const out = []
  for (let v = Math.ceil(low / step) * step; v <= top; v += step) out.push(v)
  return out
}

const yTicks = (u: uPlot, low: number, top: number) =>
  ticks(low, top, Math.max(2, Math.floor(u.bbox.height / devicePixelRatio / 30)))

function yScale(): uPlot.Scale {
  if (props.scale !== 'log') return { distr: 1 }
  return hasNegative(lines.value) ? { distr: 4, asinh: linearBelow(lines.value) } : { distr: 3 }
}

function series(): uPlot.Series[] {
  const out: uPlot.Series[] = [{}]
  for (const l of lines.value) {
    const grey = focus.value !== '' && focus.value !== l.curve.name
    const colour = grey ? css('--ink3') : l.colour
    const single = l.main.length < 2
    out.push({
      label: l.label,
      stroke: grey ? colour + '66' : colour,
      width: grey ? 1 : l.curve.parent ? 0.9 : focus.value === '' && lines.value.length > 8 ? 1.2 : 1.7,
      dash: l.dash,
      spanGaps: false,
      points: { show: single },
    })
    if (l.raw) out.push({ stroke: colour + '44', width: 1, points: { show: false } })
    if (l.high)
      out.push(
        { stroke: undefined, width: 0, points: { show: false } },
        { stroke: undefined, width: 0, points: { show: false } },
      )
  }
  return out
}

function bands(): uPlot.Band[] {
  return lines.value.flatMap((l, i) => {
    if (!l.high) return []
    const at = starts[i] + (l.raw ? 2 : 1)
    const grey = focus.value !== '' && focus.value !== l.curve.name
    return [
      { series: [at, at + 1] as [number, number], fill: (grey ? css('--ink3') : l.colour) + (grey ? '11' : '26') },
    ]
  })
}

/** The marks of the axes as they were last drawn, for files. */
const seen: { x: [number, string][]; y: [number, string][] } = { x: [], y: [] }
function note(axis: 'x' | 'y', at: (number | null)[], text: (v: number) => string): string[] {
  const all = at.map((v) => (v === null ? '' : text(v)))
  seen[axis] = at.flatMap((v, i): [number, string][] => (v === null ? [] : [[v, all[i]]]))
  return all
}

function options(width: number): uPlot.Options {
  const ink2 = css('--ink2')
  const rule = css('--rule')
  const font = `11px ${css('--mono')}`
  const longest = Math.max(4, ...lines.value.map((l) => l.label.length))
  return {
    width,
    height: high.value,
    padding: [8, Math.min(130, 16 + 6.5 * longest), 0, 0],
    legend: { show: false },
    cursor: { sync: { key: 'run' }, drag: { x: true, y: false, setScale: true }, points: { size: 6 }, y: false },
    scales: { x: { time: false }, y: yScale() },
    axes: [
      {
        stroke: ink2,
        font,
        grid: { show: false },
        ticks: { show: false },
        size: 26,
        splits: (u, _, low, top) =>
          xTicks(low, top, Math.max(2, Math.floor(u.bbox.width / devicePixelRatio / (times.value ? 90 : 60)))),
        values: (_, at) => note('x', at, axisText),
      },
      {
        stroke: ink2,
        font,
        grid: {
          stroke: rule,
          width: 1,
          ...(props.scale === 'log'
            ? { filter: (_: uPlot, at: number[]) => at.map((v) => (isPower(v) ? v : null)) }
            : {}),
        },
        ticks: { show: false },
        size: margin,
        ...(props.scale === 'log'
          ? {}
          : {
              incrs: (_u: uPlot, _: number, low: number, top: number) => increments(low, top),
              splits: (u: uPlot, _: number, low: number, top: number) => yTicks(u, low, top),
            }),
        values: (_, at) => note('y', at, (v) => (props.bytes ? sized(v) : shortNumber(v))),
      },
    ],
    series: series(),
    bands: bands(),
    hooks: {
      draw: [
        (u) => {
          drawMarks(u, lines.value, starts, {
            focus: focus.value,
            hide: props.hide,
            best: props.best,
            flags: props.flags ?? [],
          })
          const ratio = devicePixelRatio
          emit('area', u.bbox.left / ratio, u.bbox.width / ratio, u.scales.x.min ?? 0, u.scales.x.max ?? 1)
        },
      ],
      setCursor: [showTip],
      setScale: [
        (u, key) => {
          if (key !== 'x' || setting) return
          const { min, max } = u.scales.x
          const xs = u.data[0]
          // The scale as it was set by us; it is told later than it is set.
          if (min === (props.from ?? xs[0]) && max === (props.to ?? xs[xs.length - 1])) return
          const whole = min === xs[0] && max === xs[xs.length - 1]
          emit('zoom', whole ? null : (min ?? null), whole ? null : (max ?? null))
        },
      ],
    },
  }
}

/** Room for the numbers left of a chart, in pixels. */
const margin = 56
const exact = (v: number) => (Number.isFinite(v) ? String(Number(v.toPrecision(9))) : String(v))

/** Shows the exact readings at or before the cursor, and what fell on the same pixel. */
function showTip(u: uPlot) {
  const { left, idx } = u.cursor
  if (left == null || left < 0 || idx == null) {
    tip.value = null
    return
  }
  const at = u.data[0][idx]
  const rows = lines.value
    .filter((l) => focus.value === '' || l.curve.name === focus.value)
    .slice(0, 12)
    .map((l) => {
      const { curve, colour } = l
      const label = titleOf(l)
      let i = curve.x.length - 1
      while (i > 0 && !(curve.x[i] <= at)) i--
      if (!(curve.x[i] <= at)) return { label, text: '', colour }
      const many = (curve.count?.[i] ?? 1) > 1
      const range = many ? ` (${number(curve.min?.[i])} – ${number(curve.max?.[i])} of ${curve.count?.[i]})` : ''
      const smooth = curve.smooth ? ` ~ ${number(curve.smooth[i])}` : ''
      return { label, text: exact(curve.value[i]) + smooth + range, colour }
    })
  const name = props.axis === 'clock' ? '' : props.axis === 'since' ? 'after' : props.axis
  const area = u.over.clientWidth
  const flip = left > area / 2
  tip.value = { left: left + margin + (flip ? -12 : 12), flip, head: `${name} ${axisText(at)}`, rows }
}

function build() {
  if (!host.value) return
  plot?.destroy()
  const table = tableOf(lines.value, props.hide)
  starts = table.starts
  plot = new uPlot(options(host.value.clientWidth), table.data, host.value)
  applyZoom()
}

function applyZoom() {
  if (!plot) return
  const xs = plot.data[0]
  if (!xs.length) return
  setting = true
  const single = xs[0] === xs[xs.length - 1]
  plot.setScale('x', { min: props.from ?? xs[0], max: props.to ?? (single ? xs[0] + 1 : xs[xs.length - 1]) })
  setting = false
}

/** What makes a chart need to be built anew rather than take new data. */
const shape = (list: typeof lines.value) =>
  list.map((l) => [l.curve.name, l.raw ? 1 : 0, l.high ? 1 : 0, l.main.length < 2].join()).join('|')

watch(lines, (now, before) => {
  if (!plot || shape(now) !== shape(before) || (props.scale === 'log' && hasNegative(now) !== hasNegative(before))) {
    build()
    return
  }
  setting = true
  plot.setData(tableOf(now, props.hide).data, false)
  setting = false
  applyZoom()
})
watch([() => props.axis, () => props.scale, () => props.hide, dark, focus], build)
watch([() => props.from, () => props.to], applyZoom)
watch(
  () => props.flags,
  () => plot?.redraw(false),
)

const resize = new ResizeObserver(() => {
  if (plot && host.value) plot.setSize({ width: host.value.clientWidth, height: high.value })
})
onMounted(() => {
  build()
  if (host.value) resize.observe(host.value)
})
onBeforeUnmount(() => {
  resize.disconnect()
  plot?.destroy()
})

/** Zooms and pans by keyboard: + and - around the middle, arrows by a tenth, 0 shows all. */
function byKey(e: KeyboardEvent) {
  const min = plot?.scales.x.min
  const max = plot?.scales.x.max
  if (!plot || min == null || max == null || e.ctrlKey || e.metaKey || e.altKey) return
  const span = max - min
  const xs = plot.data[0]
  const go = (low: number, top: number) => {
    e.preventDefault()
    const first = Math.max(low, xs[0] - span / 2)
    emit('zoom', first, Math.max(first + span / 1e6, top))
  }
  if (e.key === '+' || e.key === '=') go(min + span / 4, max - span / 4)
  else if (e.key === '-') go(min - span / 2, max + span / 2)
  else if (e.key === 'ArrowLeft') go(min - span / 10, max - span / 10)
  else if (e.key === 'ArrowRight') go(min + span / 10, max + span / 10)
  else if (e.key === '0' || e.key === 'Home') emit('zoom', null, null)
}

async function save(kind: string) {
  if (!plot) return
  const name = `${props.file}-${props.title}.${kind}`
  const { min, max } = plot.scales.x
  if (kind === 'csv')
    download(name, new Blob([toCSV(props.curves, min ?? -Infinity, max ?? Infinity)], { type: 'text/csv' }))
  else if (kind === 'png') download(name, await toPNG(plot, props.title))
  else {
    const text = toSVG(plot, props.title, lines.value, starts, {
      focus: focus.value,
      hide: props.hide,
      best: props.best,
      flags: props.flags ?? [],
      ...seen,
    })
    download(name, new Blob([text], { type: 'image/svg+xml' }))
  }
}

const rows = computed(() =>
  props.curves.flatMap((c) =>
    c.step.map((s, i) => ({ key: `${c.name} ${i}`, name: c.name, step: s, epoch: c.epoch[i], value: c.value[i] })),
  ),
)
const last = computed(() =>
  lines.value.map((l) => `${l.label} ${number(l.curve.value[l.curve.value.length - 1])}`).join(', '),
)
</script>

<template>
  <figure>
    <FigureHead v-model:as-table="asTable" :title="title" :kinds="['svg', 'png', 'csv']" @save="save">
      <span v-if="lines.length > 2" class="chips">
        <button
          v-for="l in lines"
          :key="l.curve.name"
          type="button"
          class="small"
          :aria-pressed="focus === l.curve.name"
          :style="{ color: focus && focus !== l.curve.name ? 'var(--ink3)' : legible(l.colour) }"
          @click="focus = focus === l.curve.name ? '' : l.curve.name"
        >
          {{ titleOf(l) }}
        </button>
      </span>
    </FigureHead>
    <div
      ref="host"
      class="host"
      role="img"
      tabindex="0"
      :aria-label="`${title} by ${axis}; last: ${last}. Keys: plus and minus zoom, arrows pan, 0 shows all.`"
      @keydown="byKey"
    >
      <div
        v-if="tip"
        class="tip"
        :style="{ left: tip.left + 'px', transform: tip.flip ? 'translateX(-100%)' : undefined }"
      >
        <div class="small">{{ tip.head }}</div>
        <div v-for="r in tip.rows" :key="r.label" class="row">
          <span class="small" :style="{ color: legible(r.colour) }">{{ r.label }}</span>
          <span class="mono">{{ r.text }}</span>
        </div>
      </div>
    </div>
    <div v-if="asTable" class="readings">
      <table>
        <thead>
          <tr>
            <th>Curve</th>
            <th class="n">Step</th>
            <th class="n">Epoch</th>
            <th class="n">Value</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="r.key">
            <td>{{ r.name }}</td>
            <td class="n">{{ r.step }}</td>
            <td class="n">{{ r.epoch }}</td>
            <td class="n">{{ exact(r.value) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  min-width: 0;
}
.chips button {
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
}
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
  max-height: 34px;
  overflow-y: auto;
}
.host {
  position: relative;
}
.tip {
  position: absolute;
  top: 10px;
  z-index: 2;
  min-width: 128px;
  padding: 5px 9px;
  background: var(--sheet);
  border: 1px solid var(--rule2);
  border-radius: 3px;
  pointer-events: none;
  white-space: nowrap;
}
.tip .row {
  display: flex;
  justify-content: space-between;
  gap: 14px;
}
.readings {
  max-height: 260px;
  overflow: auto;
}
</style>
