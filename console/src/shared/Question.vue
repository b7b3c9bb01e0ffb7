<script setup lang="ts">
/** A section of a page: what a person asks and the service's answer at the left, the evidence at the right. */
defineProps<{ title: string; says?: string }>()
</script>

<template>
  <section class="q">
    <div>
      <h2>{{ title }}</h2>
      <p v-if="says" class="say">{{ says }}</p>
      <slot name="aside"></slot>
    </div>
    <div class="evidence"><slot></slot></div>
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
