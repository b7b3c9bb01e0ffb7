<script setup lang="ts">
import { computed } from 'vue'
import type { RunGroup } from '../api/client'
import { number, toNumber } from '../shared/format'

/** How far each setting is from the next, and from the baseline's, and whether that is more than noise. */
const props = defineProps<{ groups: RunGroup[] }>()
type Margin = NonNullable<RunGroup['next']>
const say = (m: Margin | undefined) =>
  m ? `${toNumber(m.difference) > 0 ? '+' : ''}${number(m.difference)}; ${m.says}` : ''
/** The last has no next. */
const told = computed(() => props.groups.filter((g) => g.next || g.against_baseline))
const baseline = computed(() => props.groups.some((g) => g.against_baseline))
</script>

<template>
  <table v-if="groups.length > 1">
    <thead>
      <tr>
        <th scope="col">Setting</th>
        <th scope="col">Against the next</th>
        <th v-if="baseline" scope="col">Against the baseline</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="g in told" :key="g.label">
        <td>{{ g.label }}</td>
        <td class="small">{{ say(g.next) }}</td>
        <td v-if="baseline" class="small">{{ say(g.against_baseline) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  margin-top: 10px;
}
td {
  white-space: normal;
  vertical-align: top;
}
td:first-child {
  white-space: nowrap;
}
</style>
