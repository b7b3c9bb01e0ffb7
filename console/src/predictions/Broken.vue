<script setup lang="ts">
import type { Sheet } from '../api/client'

/** The alarms of a sheet, each leading to its examples. */
defineProps<{ alarms: NonNullable<Sheet['alarms']>; quiet?: string; link: string }>()
</script>

<template>
  <p v-for="a in alarms" :key="a.says" class="alarm">
    <b>{{ a.says }}</b>
    <RouterLink v-if="a.where" :to="{ path: link, query: { where: a.where }, hash: '#examples' }" class="small">
      Its examples
    </RouterLink>
  </p>
  <p v-if="quiet" class="small">{{ quiet }}</p>
</template>

<style scoped>
.alarm {
  border-left: 3px solid var(--bad);
  padding: 1px 0 1px 10px;
  margin: 0 0 10px;
}
.alarm b {
  display: block;
  font-weight: 600;
}
</style>
