<script setup lang="ts">
/** The way to the lineage of a thing. */
defineProps<{ of: string }>()
</script>

<template>
  <RouterLink :to="{ name: 'lineage', query: { of } }">Where does it come from, what uses it?</RouterLink>
</template>
