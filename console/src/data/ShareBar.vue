<script setup lang="ts">
/** A share of a whole as a short bar. */
defineProps<{ share: number; bad?: boolean }>()
</script>

<template>
  <span class="bar" aria-hidden="true">
    <span :class="{ bad }" :style="{ width: `${Math.min(1, Math.max(0, share)) * 100}%` }"></span>
  </span>
</template>

<style scoped>
.bar {
  display: block;
  height: 8px;
  min-width: 60px;
  background: var(--accent2);
}
.bar span {
  display: block;
  height: 100%;
  background: var(--accent);
}
.bar span.bad {
  background: var(--bad);
}
</style>
