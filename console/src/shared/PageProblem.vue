<script setup lang="ts">
/** What is wrong with a page; where there is nothing else to show, under a heading that says what was looked for. */
defineProps<{ problem: string; missing: boolean; name: string }>()
</script>

<template>
  <template v-if="problem">
    <h1 v-if="missing" class="page-top">{{ name }}</h1>
    <p class="bad problem" role="alert">{{ problem }}</p>
  </template>
</template>

<style scoped>
.problem {
  padding: 0 24px;
}
</style>
