<script setup lang="ts">
import { bytes } from '../shared/format'

/** Bytes as a bar: solid what nothing else holds, striped what is shared. most is the length of the longest bar. */
defineProps<{ own: number; shared: number; most: number }>()
const share = (n: number, most: number) => `${(100 * n) / (most || 1)}%`
</script>

<template>
  <span class="bar" role="img" :aria-label="`${bytes(own)} own, ${bytes(shared)} shared`">
    <span class="own" :style="{ width: share(own, most) }"></span>
    <span class="shared" :style="{ width: share(shared, most) }"></span>
  </span>
</template>

<style scoped>
.bar {
  display: flex;
  height: 12px;
}
.own {
  background: var(--accent);
}
.shared {
  background: repeating-linear-gradient(135deg, var(--accent) 0 1.5px, var(--accent2) 1.5px 5px);
}
</style>
