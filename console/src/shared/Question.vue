<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from 'vue'

/** A section of a page: what a person asks and the service's answer at the left, the evidence at the right. */
defineProps<{ title: string; says?: string }>()
const evidence = ref<HTMLElement>()
/** In a narrow window it may be wider than its place; then it scrolls by keyboard too. */
const scrolls = ref(false)
const size = new ResizeObserver(([entry]) => (scrolls.value = entry.target.scrollWidth > entry.target.clientWidth + 1))
onMounted(() => evidence.value && size.observe(evidence.value))
onBeforeUnmount(() => size.disconnect())
</script>

<template>
  <section class="q">
    <div>
      <h2>{{ title }}</h2>
      <p v-if="says" class="say">{{ says }}</p>
      <slot name="aside"></slot>
    </div>
    <div
      ref="evidence"
      class="evidence"
      :tabindex="scrolls ? 0 : undefined"
      :role="scrolls ? 'region' : undefined"
      :aria-label="scrolls ? title : undefined"
    >
      <slot></slot>
    </div>
  </section>
</template>

<style scoped>
.q {
  display: grid;
  grid-template-columns: 236px minmax(0, 1fr);
  gap: 28px;
  padding: 18px 24px 20px;
  border-top: 1px solid var(--rule);
}
@media (max-width: 1000px) {
  .q {
    grid-template-columns: minmax(0, 1fr);
    gap: 12px;
  }
  .evidence {
    overflow-x: auto;
    position: relative; /* what is there for screen readers alone stays within */
  }
}
@media (max-width: 700px) {
  .q {
    padding: 14px 16px 16px;
  }
}
h2 {
  font-size: 15px;
  font-weight: 600;
  margin: 0 0 6px;
  line-height: 1.3;
}
.say {
  margin: 0 0 8px;
}
</style>
