<script setup lang="ts">
import { computed } from 'vue'
import type { RunDetail } from '../api/client'
import { bytes, hyper } from '../format'

/** Hyperparameters and the recipe of a run, as name and value in columns. */
const props = defineProps<{ run: RunDetail }>()

const entries = computed(() => {
  const r = props.run.recipe
  const commit = r.commit ? r.commit.slice(0, 10) + (r.clean === false ? ' + changes' : '') : ''
  const recipe: [string, string][] = [
    ['commit', commit],
    ['host', r.host ?? ''],
    ['system', r.system ?? ''],
    ['cpu', r.cpu ?? ''],
    ['memory', r.memory ? bytes(r.memory) : ''],
    ['language', r.language ?? ''],
    ['folder', r.folder ?? ''],
  ]
  return [
    ...Object.entries(props.run.hyper)
      .sort(([a], [b]) => a.localeCompare(b))
      .map(([n, v]): [string, string] => [n, hyper(v)]),
    ...recipe.filter(([, v]) => v),
  ]
})
</script>

<template>
  <dl>
    <div v-for="[name, value] in entries" :key="name">
      <dt>{{ name }}</dt>
      <dd class="mono" :title="value">{{ value }}</dd>
    </div>
  </dl>
  <pre v-if="run.recipe.command?.length" class="command">{{ run.recipe.command.join(' ') }}</pre>
</template>

<style scoped>
dl {
  columns: 4 200px;
  column-gap: 28px;
  margin: 0;
  font-size: 12px;
}
dl div {
  display: flex;
  break-inside: avoid;
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
  gap: 10px;
}
dt {
  flex: 0 0 84px;
  color: var(--ink2);
  overflow-wrap: anywhere;
}
dd {
  margin: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
