<script setup lang="ts">
import { computed } from 'vue'
import type { Run } from '../api/client'
import { toNumber } from '../shared/format'

/** A small drawing of the objective's curve with its best point; a cross where it stopped being a number. */
const props = defineProps<{ run: Run; colour?: string }>()
const width = 128
const height = 24

const drawing = computed(() => {
  const values = (props.run.sketch ?? []).map(toNumber)
  const finite = values.filter(Number.isFinite)
  if (!finite.length) return null
  const sorted = [...finite].sort((a, b) => a - b)
  const low = sorted[0]
  // The first few readings are often far off; the scale leaves out what lies above twice the upper tenth.
  const top = Math.min(sorted[sorted.length - 1], low + 2 * (sorted[Math.floor(sorted.length * 0.9)] - low) || low + 1)
  const x = (i: number) => 4 + (i * (width - 8)) / Math.max(1, values.length - 1)
  const y = (v: number) => height - 4 - ((Math.min(v, top) - low) / (top - low || 1)) * (height - 8)
  let path = ''
  let pen = false
  values.forEach((v, i) => {
    if (Number.isFinite(v)) path += `${pen ? 'L' : 'M'}${x(i).toFixed(1)} ${y(v).toFixed(1)}`
    pen = Number.isFinite(v)
  })
  const higher = props.run.objective.direction === 'higher'
  const best = values.reduce((b, v, i) => {
    if (!Number.isFinite(v)) return b
    return b < 0 || (higher ? v > values[b] : v < values[b]) ? i : b
  }, -1)
  const bad = values.findIndex((v) => !Number.isFinite(v))
  return { path, bx: x(best), by: y(values[best]), bad: bad < 0 ? null : x(bad) }
})
</script>

<template>
  <svg v-if="drawing" :width="width" :height="height" role="img" :aria-label="`curve of ${run.objective.curve}`">
    <path :d="drawing.path" fill="none" :stroke="colour ?? 'var(--ink2)'" stroke-width="1.4" />
    <path
      v-if="drawing.bad !== null"
      :d="`M${drawing.bad - 3} 8l6 6m0-6l-6 6`"
      stroke="var(--bad)"
      stroke-width="1.5"
    />
    <circle
      :cx="drawing.bx"
      :cy="drawing.by"
      r="2.6"
      fill="var(--paper)"
      :stroke="colour ?? 'var(--ink2)'"
      stroke-width="1.5"
    />
  </svg>
</template>

<style scoped>
svg {
  display: block;
}
</style>
