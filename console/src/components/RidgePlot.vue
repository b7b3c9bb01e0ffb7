<script setup lang="ts">
import { computed } from 'vue'
import type { Weights } from '../api/client'
import { number, toNumber } from '../format'

/** How a tensor's elements are distributed over the checkpoints: a ridge for each, the latest in front. */
const props = defineProps<{ name: string; points: NonNullable<Weights['checkpoints']> }>()

const wide = 620
const rise = 46
const shown = computed(() => {
  const all = props.points.flatMap((p) => {
    const t = p.tensors?.find((t) => t.name === props.name)
    return t?.histogram ? [{ at: p, t, bars: t.histogram, low: toNumber(t.min), high: toNumber(t.max) }] : []
  })
  const most = 14
  return all.length <= most
    ? all
    : Array.from({ length: most }, (_, i) => all[Math.round((i * (all.length - 1)) / (most - 1))])
})
const low = computed(() => Math.min(...shown.value.map((s) => s.low)))
const high = computed(() => Math.max(...shown.value.map((s) => s.high), low.value + Number.MIN_VALUE))
const gap = computed(() => Math.min(26, 300 / Math.max(1, shown.value.length)))
const tall = computed(() => rise + gap.value * shown.value.length + 22)
const left = 64

const x = (v: number) => left + ((v - low.value) / (high.value - low.value || 1)) * (wide - left - 70)

/** The share of elements in each stretch of the axis is what is drawn, so that ridges of other ranges can be compared. */
const ridges = computed(() => {
  const heights = shown.value.map(({ bars, low, high, t }) => {
    const width = (high - low) / bars.length || 1
    return bars.map((n) => n / t.parameters / width)
  })
  const top = Math.max(...heights.map((h) => Math.max(...h)))
  return shown.value.map((s, i) => {
    const base = rise + gap.value * (i + 1)
    const step = (s.high - s.low) / s.bars.length
    const points = heights[i].map(
      (h, k) => `${x(s.low + (k + 0.5) * step).toFixed(1)} ${(base - (h / top) * rise).toFixed(1)}`,
    )
    const label = s.at.address.split('@')[1]
    return {
      base,
      label,
      path: `M${x(s.low).toFixed(1)} ${base}L${points.join('L')}L${x(s.high).toFixed(1)} ${base}`,
      says: `${label}: ${number(s.low)} to ${number(s.high)}, deviation ${number(s.t.deviation)}`,
      deviation: number(s.t.deviation),
    }
  })
})
const marks = computed(() => [low.value, (low.value + high.value) / 2, high.value])
</script>

<template>
  <svg
    v-if="shown.length"
    :viewBox="`0 0 ${wide} ${tall}`"
    :style="{ maxWidth: wide + 'px' }"
    role="img"
    :aria-label="`distribution of ${name} over ${shown.length} checkpoints`"
  >
    <text :x="wide" y="12" text-anchor="end">deviation</text>
    <g v-for="r in ridges" :key="r.label">
      <path :d="r.path" fill="var(--paper)" fill-opacity="0.86" stroke="var(--accent)" stroke-width="1.2" />
      <line :x1="left" :x2="wide - 70" :y1="r.base" :y2="r.base" stroke="var(--rule2)" />
      <text :x="left - 8" :y="r.base" text-anchor="end">@{{ r.label }}</text>
      <text :x="wide" :y="r.base" text-anchor="end">{{ r.deviation }}</text>
      <title>{{ r.says }}</title>
    </g>
    <text
      v-for="(m, i) in marks"
      :key="i"
      :x="x(m)"
      :y="tall - 4"
      :text-anchor="i === 0 ? 'start' : i === 1 ? 'middle' : 'end'"
    >
      {{ number(m) }}
    </text>
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
