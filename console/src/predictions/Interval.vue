<script setup lang="ts">
import { computed } from 'vue'

/** A share from 0 to 1 as a mark on a line, with its interval as a band. */
const props = defineProps<{ figure: { value: number; low?: number; high?: number } }>()
const width = 84
const low = computed(() => (props.figure.low ?? props.figure.value) * width)
const high = computed(() => (props.figure.high ?? props.figure.value) * width)
const says = computed(() =>
  props.figure.low === undefined || props.figure.high === undefined
    ? props.figure.value.toFixed(3)
    : `95 %: ${props.figure.low.toFixed(3)} to ${props.figure.high.toFixed(3)}`,
)
</script>

<template>
  <svg :width="width" height="14" role="img" :aria-label="says">
    <title>{{ says }}</title>
    <path :d="`M0 7h${width}`" stroke="var(--rule)" />
    <path :d="`M${low} 7H${high}`" stroke="var(--accent)" stroke-width="5" opacity=".3" />
    <path :d="`M${figure.value * width} 2v10`" stroke="var(--accent)" stroke-width="2" />
  </svg>
</template>

<style scoped>
svg {
  vertical-align: middle;
}
</style>
