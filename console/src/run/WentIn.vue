<script setup lang="ts">
import { computed } from 'vue'
import type { RunDetail } from '../api/client'
import { bytes, hyper } from '../shared/format'

/** Hyperparameters and the recipe of a run, as name and value in columns. */
const props = defineProps<{ run: RunDetail }>()

/** The page of hydrophone#3:val. */
const dataLink = (address: string) => `/data/${address.replace(/:.*/, '').replace('#', '/')}`

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
  const used = Object.entries(props.run.hyper).map(([n, v]): [string, string, string] => {
    const other = props.run.untaken?.find((u) => u.name === n)
    return [n, hyper(v), other ? `asked ${hyper(other.asked)}, not taken` : '']
  })
  const unknown = (props.run.untaken ?? [])
    .filter((u) => u.used === undefined)
    .map((u): [string, string, string] => [u.name, '', `asked ${hyper(u.asked)}, not taken`])
  const data = (props.run.data ?? []).map((u): [string, string, string] => [
    `data ${u.use}`,
    u.data ?? u.asked ?? `${u.items ?? 0} items`,
    u.data ? '' : 'not known',
  ])
  return [
    ...data,
    ...[...used, ...unknown].sort(([a], [b]) => a.localeCompare(b)),
    ...recipe.filter(([, v]) => v).map(([n, v]): [string, string, string] => [n, v, '']),
  ]
})
</script>

<template>
  <dl>
    <div v-for="[name, value, remark] in entries" :key="name">
      <dt>{{ name }}</dt>
      <dd class="mono" :class="{ whole: remark }" :title="value">
        <RouterLink v-if="name.startsWith('data ') && !remark" :to="dataLink(value)">{{ value }}</RouterLink>
        <template v-else>{{ value }}</template>
        <span v-if="remark" class="warn">{{ remark }}</span>
      </dd>
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
dd.whole {
  white-space: normal;
}
</style>
