<script setup lang="ts">
import { computed } from 'vue'
import type { Weights } from '../api/client'
import { number, toNumber } from '../shared/format'

/** How a tensor's elements are distributed over the checkpoints: bands of quantiles over the epochs, and below a strip of how widely they spread. */
const props = defineProps<{ name: string; points: NonNullable<Weights['checkpoints']> }>()

const wide = 640
const tall = 250
const left = 88
const right = 92
const top = 12
const floor = 186
const strip = 206

/** The quantiles' names, from the highest; the service tells them from the lowest on. */
const names = ['highest', '95 %', '75 %', 'median', '25 %', '5 %', 'lowest']
const pairs = [
  [0, 6],
  [1, 5],
  [2, 4],
] as const

const shown = computed(() =>
  props.points.flatMap((p) => {
    const t = p.tensors?.find((t) => t.name === props.name)
    const q = t?.quantiles?.map((v) => toNumber(v)) ?? []
    if (!t || q.length !== names.length || q.some((v) => !Number.isFinite(v))) return []
    const epoch = toNumber(p.epoch)
    return [{ at: epoch, step: p.step, label: p.address.split('@')[1], q, deviation: toNumber(t.deviation) }]
  }),
)
const byStep = computed(() => shown.value.some((s) => Number.isNaN(s.at)))
const place = (s: (typeof shown.value)[number]) => (byStep.value ? s.step : s.at)
const first = computed(() => Math.min(...shown.value.map(place)))
const last = computed(() => Math.max(...shown.value.map(place)))
const low = computed(() => Math.min(...shown.value.map((s) => s.q[0])))
const high = computed(() => Math.max(...shown.value.map((s) => s.q[6])))

const x = (v: number) =>
  last.value > first.value
    ? left + ((v - first.value) / (last.value - first.value)) * (wide - left - right)
    : (left + wide - right) / 2
const y = (v: number) =>
  high.value > low.value ? floor - ((v - low.value) / (high.value - low.value)) * (floor - top) : (floor + top) / 2

/** A single checkpoint is drawn as a short stretch, as a band needs some width. */
const across = computed(() => {
  const list = shown.value.map((s) => ({ x: x(place(s)), q: s.q }))
  return list.length === 1 ? [-14, 14].map((d) => ({ ...list[0], x: list[0].x + d })) : list
})
const line = (i: number) => across.value.map((s) => `${s.x.toFixed(1)} ${y(s.q[i]).toFixed(1)}`)
const bands = computed(() => pairs.map(([a, b]) => `M${line(a).join('L')}L${line(b).reverse().join('L')}Z`))
const median = computed(() => `M${line(3).join('L')}`)

/** Names at the right end, kept apart. */
const labels = computed(() => {
  const q = shown.value[shown.value.length - 1].q
  const out = names.map((name, i) => ({ name, value: q[6 - i], at: y(q[6 - i]) + 4 }))
  for (let i = 1; i < out.length; i++) out[i].at = Math.max(out[i].at, out[i - 1].at + 12)
  const over = out[out.length - 1].at - (floor + 8)
  if (over > 0)
    for (let i = out.length - 1, most = floor + 8; i >= 0; i--, most -= 12) out[i].at = Math.min(out[i].at, most)
  return out
})

/** The strip's cells reach half way to their neighbours; from the palest to the darkest, the narrowest and the widest spread. */
const widest = computed(() => Math.max(...shown.value.map((s) => s.deviation)))
const narrowest = computed(() => Math.min(...shown.value.map((s) => s.deviation)))
const cells = computed(() => {
  const at = across.value.length === shown.value.length ? across.value.map((s) => s.x) : [x(place(shown.value[0]))]
  return shown.value.map((s, i) => {
    const from = i > 0 ? (at[i - 1] + at[i]) / 2 : at[i] - (at.length > 1 ? (at[1] - at[0]) / 2 : 14)
    const to = i < at.length - 1 ? (at[i] + at[i + 1]) / 2 : at[i] + (at.length > 1 ? (at[i] - at[i - 1]) / 2 : 14)
    const spread = widest.value - narrowest.value
    const share = spread > 0 && Number.isFinite(s.deviation) ? (s.deviation - narrowest.value) / spread : 0.5
    const says = `@${s.label}: ${number(s.q[0])} to ${number(s.q[6])}, median ${number(s.q[3])}, deviation ${number(s.deviation)}`
    return { from: Math.max(from, left - 12), to: Math.min(to, wide - right + 12), share, says, label: s.label }
  })
})
const heights = computed(() =>
  high.value > low.value ? [high.value, (low.value + high.value) / 2, low.value] : [low.value],
)
</script>

<template>
  <svg
    v-if="shown.length"
    :viewBox="`0 0 ${wide} ${tall}`"
    :style="{ maxWidth: wide + 'px' }"
    role="img"
    :aria-label="`distribution of ${name} over ${shown.length} checkpoints`"
  >
    <g v-for="h in heights" :key="h">
      <line :x1="left" :x2="wide - right" :y1="y(h)" :y2="y(h)" stroke="var(--rule2)" />
      <text :x="left - 18" :y="y(h) + 4" text-anchor="end">{{ number(h) }}</text>
    </g>
    <path
      v-for="(d, i) in bands"
      :key="i"
      :d="d"
      fill="var(--accent)"
      :fill-opacity="[0.1, 0.2, 0.34][i]"
      class="band"
    />
    <path :d="median" fill="none" stroke="var(--accent)" stroke-width="1.6" />
    <text v-for="l in labels" :key="l.name" :x="wide - right + 16" :y="l.at">{{ l.name }}</text>
    <g v-for="c in cells" :key="c.label">
      <rect
        :x="c.from"
        :width="Math.max(1, c.to - c.from)"
        :y="strip"
        height="14"
        fill="var(--accent)"
        :fill-opacity="0.12 + 0.74 * c.share"
      />
      <rect :x="c.from" :width="Math.max(1, c.to - c.from)" :y="top" :height="floor - top" fill="transparent" />
      <title>{{ c.says }}</title>
    </g>
    <text :x="left - 18" :y="strip + 11" text-anchor="end">deviation</text>
    <text :x="wide - right + 16" :y="strip + 11">{{ number(shown[shown.length - 1].deviation) }}</text>
    <text :x="x(first)" :y="tall - 8" text-anchor="middle">{{ byStep ? 'step' : 'epoch' }} {{ number(first) }}</text>
    <text v-if="last > first" :x="x(last)" :y="tall - 8" text-anchor="middle">{{ number(last) }}</text>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
}
text {
  font: 11px var(--mono);
  fill: var(--ink2);
}
</style>
