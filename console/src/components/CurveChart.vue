<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import type { Drawn } from '../composables/curves'
import { dark } from '../composables/theme'
import { number } from '../format'

const props = defineProps<{
  measure: string
  curves: Drawn[]
  axis: string
  scale: string
  hide: number
  from: number | null
  to: number | null
  best?: { curve: string; step: number; value: number }
}>()
const emit = defineEmits<{
  zoom: [from: number | null, to: number | null]
  area: [left: number, width: number, low: number, high: number]
}>()

const host = ref<HTMLElement>()
const tip = ref<{ left: number; head: string; rows: { label: string; text: string }[] } | null>(null)
const asTable = ref(false)
let plot: uPlot | null = null
let setting = false

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const label = (c: Drawn) => c.split || c.name

/** Where a curve's readings stand on the axis. */
function places(c: Drawn): number[] {
  if (props.axis === 'time') return c.time.map((t) => t / 1000)
  if (props.axis === 'epoch' && !Number.isNaN(c.epoch[0])) return c.epoch
  return c.step
}

/** Values for drawing: what cannot be drawn is a gap. */
const drawable = (v: number) => (Number.isFinite(v) && (props.scale !== 'log' || v > 0) ? v : null)

interface Line {
  curve: Drawn
  faint: boolean
}
const lines = computed<Line[]>(() =>
  props.curves.flatMap((c) =>
    c.smooth.length === c.value.length && c.value.length
      ? [
          { curve: c, faint: true },
          { curve: c, faint: false },
        ]
      : [{ curve: c, faint: false }],
  ),
)

/** The readings that are shown, on one axis for all lines; only true gaps stay gaps. */
function data(): uPlot.AlignedData {
  const tables = lines.value.map(({ curve, faint }) => {
    const smooth = !faint && curve.smooth.length === curve.value.length
    const ys = smooth ? curve.smooth : curve.value
    const xs = places(curve)
    const x: number[] = []
    const y: (number | null)[] = []
    xs.forEach((at, i) => {
      if (props.hide > 0 && curve.epoch[i] <= props.hide) return
      if (x.length && x[x.length - 1] === at) y[y.length - 1] = drawable(ys[i])
      else {
        x.push(at)
        y.push(drawable(ys[i]))
      }
    })
    return [x, y] as [number[], (number | null)[]]
  })
  if (!tables.length) return [[], []]
  return uPlot.join(
    tables,
    tables.map(() => [0, 1]),
  )
}

/** Readings that are NaN or infinite, for their marks. */
function unreal(): number[] {
  return lines.value.flatMap(({ curve, faint }) =>
    faint ? [] : places(curve).filter((_, i) => !Number.isFinite(curve.value[i]) && !(curve.epoch[i] <= props.hide)),
  )
}

const clock = (s: number) => new Date(s * 1000).toTimeString().slice(0, 8)

function axisText(v: number): string {
  return props.axis === 'time' ? clock(v) : number(Math.round(v * 100) / 100)
}

function options(width: number): uPlot.Options {
  const ink2 = css('--ink2')
  const rule = css('--rule')
  const font = `11px ${css('--mono')}`
  return {
    width,
    height: 230,
    padding: [8, 58, 0, 0],
    legend: { show: false },
    cursor: { sync: { key: 'run' }, drag: { x: true, y: false, setScale: true }, points: { size: 6 }, y: false },
    scales: { x: { time: false }, y: { distr: props.scale === 'log' ? 3 : 1 } },
    axes: [
      {
        stroke: ink2,
        font,
        grid: { show: false },
        ticks: { show: false },
        size: 26,
        values: (_, at) => at.map(axisText),
      },
      {
        stroke: ink2,
        font,
        grid: { stroke: rule, width: 1 },
        ticks: { show: false },
        size: 46,
        values: (_, at) => at.map((v) => (v === null ? '' : shortNumber(v))),
      },
    ],
    series: [
      {},
      ...lines.value.map(({ curve, faint }): uPlot.Series => {
        const colour = css(curve.split === '' ? '--c3' : curve.split === 'test' ? '--c2' : '--c1')
        return {
          label: label(curve),
          stroke: faint ? colour + '44' : colour,
          width: faint ? 1 : 1.7,
          dash: curve.split === 'train' ? [5, 3] : undefined,
          spanGaps: false,
          points: { show: curve.value.length < 2 },
        }
      }),
    ],
    hooks: {
      draw: [drawMarks],
      setCursor: [showTip],
      setScale: [
        (u, key) => {
          if (key !== 'x' || setting) return
          const { min, max } = u.scales.x
          const xs = u.data[0]
          const whole = min === xs[0] && max === xs[xs.length - 1]
          emit('zoom', whole ? null : (min ?? null), whole ? null : (max ?? null))
        },
      ],
    },
  }
}

function shortNumber(v: number): string {
  if (v !== 0 && (Math.abs(v) >= 1e5 || Math.abs(v) < 1e-3)) return v.toExponential(0).replace('e+', 'e')
  return String(Number(v.toPrecision(6)))
}

/** Draws direct labels at line ends, the best point, and crosses at the foot where a reading is not a number. */
function drawMarks(u: uPlot) {
  const ctx = u.ctx
  const dpr = devicePixelRatio
  ctx.save()
  ctx.font = `500 ${11 * dpr}px ${css('--sans')}`
  ctx.textBaseline = 'middle'
  ctx.textAlign = 'left'
  const ends: { y: number; x: number; text: string; colour: string }[] = []
  lines.value.forEach(({ curve, faint }, i) => {
    if (faint) return
    const ys = u.data[i + 1] as (number | null | undefined)[]
    let last = ys.length - 1
    while (last >= 0 && (ys[last] == null || u.data[0][last] > (u.scales.x.max ?? Infinity))) last--
    if (last < 0) return
    ends.push({
      x: u.valToPos(u.data[0][last], 'x', true),
      y: u.valToPos(ys[last]!, 'y', true),
      text: label(curve),
      colour: css(curve.split === '' ? '--c3' : curve.split === 'test' ? '--c2' : '--c1'),
    })
  })
  ends.sort((a, b) => a.y - b.y)
  ends.forEach((e, i) => {
    if (i > 0) e.y = Math.max(e.y, ends[i - 1].y + 12 * dpr)
    ctx.fillStyle = e.colour
    ctx.fillText(e.text, e.x + 6 * dpr, e.y)
  })
  ctx.strokeStyle = css('--bad')
  ctx.lineWidth = 1.5 * dpr
  const foot = u.bbox.top + u.bbox.height - 6 * dpr
  for (const at of new Set(unreal().map((v) => Math.round(u.valToPos(v, 'x', true))))) {
    if (at < u.bbox.left || at > u.bbox.left + u.bbox.width) continue
    const r = 3 * dpr
    ctx.beginPath()
    ctx.moveTo(at - r, foot - r)
    ctx.lineTo(at + r, foot + r)
    ctx.moveTo(at + r, foot - r)
    ctx.lineTo(at - r, foot + r)
    ctx.stroke()
  }
  const best = props.best
  const on = best && props.curves.find((c) => c.name === best.curve)
  const i = on ? on.step.findIndex((s, k) => s === best.step && on.value[k] === best.value) : -1
  if (best && on && i >= 0 && !(on.epoch[i] <= props.hide) && drawable(best.value) !== null) {
    const x = u.valToPos(places(on)[i], 'x', true)
    const y = u.valToPos(best.value, 'y', true)
    if (x >= u.bbox.left && x <= u.bbox.left + u.bbox.width) {
      ctx.beginPath()
      ctx.arc(x, y, 4 * dpr, 0, 2 * Math.PI)
      ctx.fillStyle = css('--paper')
      ctx.fill()
      ctx.strokeStyle = css('--c1')
      ctx.lineWidth = 2 * dpr
      ctx.stroke()
      ctx.fillStyle = css('--ink')
      ctx.textAlign = 'center'
      const above = y - u.bbox.top > 24 * dpr
      const half = ctx.measureText(`best ${number(best.value)}`).width / 2
      const middle = Math.min(Math.max(x, u.bbox.left + half), u.bbox.left + u.bbox.width - half)
      ctx.fillText(`best ${number(best.value)}`, middle, above ? y - 13 * dpr : y + 14 * dpr)
    }
  }
  ctx.restore()
  emit('area', u.bbox.left / dpr, u.bbox.width / dpr, u.scales.x.min ?? 0, u.scales.x.max ?? 1)
}

/** Shows the exact readings at or before the cursor. */
function showTip(u: uPlot) {
  const { left, idx } = u.cursor
  if (left == null || left < 0 || idx == null) {
    tip.value = null
    return
  }
  const at = u.data[0][idx]
  const rows = lines.value
    .filter((l) => !l.faint)
    .map(({ curve }) => {
      const xs = places(curve)
      let i = xs.length - 1
      while (i > 0 && xs[i] > at) i--
      return { label: label(curve), text: xs[i] <= at ? exact(curve.value[i]) : '' }
    })
  const head = props.axis === 'time' ? clock(at) : `${props.axis} ${axisText(at)}`
  const area = u.over.clientWidth
  tip.value = { left: left > area - 190 ? left - 150 + 46 : left + 12 + 46, head, rows }
}

const exact = (v: number) => (Number.isFinite(v) ? String(Number(v.toPrecision(9))) : String(v))

function build() {
  if (!host.value) return
  plot?.destroy()
  plot = new uPlot(options(host.value.clientWidth), data(), host.value)
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

// New readings only replace the data; another look builds the chart anew.
watch(
  () => props.curves,
  (now, before) => {
    if (!plot || now.length !== before.length || lines.value.length !== plot.series.length - 1) return build()
    setting = true
    plot.setData(data(), false)
    setting = false
    applyZoom()
  },
)
watch([() => props.axis, () => props.scale, () => props.hide, dark], build)
watch([() => props.from, () => props.to], applyZoom)

const resize = new ResizeObserver(() => {
  if (plot && host.value) plot.setSize({ width: host.value.clientWidth, height: 230 })
})
onMounted(() => {
  build()
  resize.observe(host.value!)
})
onBeforeUnmount(() => {
  resize.disconnect()
  plot?.destroy()
})

const rows = computed(() =>
  props.curves.flatMap((c) =>
    c.step.map((s, i) => ({ key: c.name + i, name: c.name, step: s, epoch: c.epoch[i], value: c.value[i] })),
  ),
)
const last = computed(() =>
  props.curves.map((c) => `${label(c)} ${number(c.value[c.value.length - 1] as number)}`).join(', '),
)
</script>

<template>
  <figure>
    <figcaption>
      <b>{{ measure }}</b>
      <span class="space"></span>
      <button type="button" class="small" :aria-expanded="asTable" @click="asTable = !asTable">
        {{ asTable ? 'chart only' : 'as table' }}
      </button>
    </figcaption>
    <div ref="host" class="host" role="img" :aria-label="`${measure} by ${axis}; last: ${last}`">
      <div v-if="tip" class="tip" :style="{ left: tip.left + 'px' }">
        <div class="small">{{ tip.head }}</div>
        <div v-for="r in tip.rows" :key="r.label" class="row">
          <span class="small">{{ r.label }}</span>
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
figcaption {
  display: flex;
  align-items: baseline;
}
figcaption button {
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  margin-right: 58px;
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
