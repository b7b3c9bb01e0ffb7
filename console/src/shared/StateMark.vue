<script setup lang="ts">
import { computed } from 'vue'

/** A run's or leg's state: a shape and a word, so that colour alone says nothing. */
const props = defineProps<{ state: string }>()
const look = computed(
  () =>
    ({
      running: { tone: 'accent', path: 'M6 6V2', ring: true },
      finished: { tone: '', path: 'M2.5 6.5l2.5 2.5 4.5-5.5', ring: false },
      stopped: { tone: '', path: 'M3.5 3.5h5v5h-5z', ring: false },
      failed: { tone: 'bad', path: 'M3 3l6 6m0-6l-6 6', ring: false },
      lost: { tone: 'bad', path: 'M6 2v5m0 2v1', ring: false },
    })[props.state] ?? { tone: '', path: '', ring: false },
)
</script>

<template>
  <span class="state" :class="look.tone">
    <svg width="12" height="12" aria-hidden="true">
      <circle v-if="look.ring" cx="6" cy="6" r="4" fill="none" stroke="currentColor" stroke-width="1.6" />
      <path :d="look.path" fill="none" stroke="currentColor" stroke-width="1.6" />
    </svg>
    {{ state }}
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 6px;
  color: var(--ink2);
  font-size: 12px;
}
.state.accent {
  color: var(--accent);
}
.state.bad {
  color: var(--bad);
}
</style>
