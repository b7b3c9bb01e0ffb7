<script setup lang="ts">
import type { Comparison } from '../api/client'
import { number as text, toNumber } from '../shared/format'
import GroupHeads from './GroupHeads.vue'

/** What the latest evaluations on the same data found, a column for each group. */
defineProps<{ comparison: Comparison }>()
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">On</th>
        <th scope="col">Measure</th>
        <GroupHeads :groups="comparison.groups ?? []" />
      </tr>
    </thead>
    <tbody>
      <tr v-for="e in comparison.evaluated" :key="e.on + e.measure">
        <td class="mono">{{ e.on }}</td>
        <td>{{ e.measure }}</td>
        <td v-for="(g, i) in e.groups" :key="i" class="n">
          <template v-if="!Number.isNaN(toNumber(g.mean))">
            <span v-if="g.alarmed" class="bad" title="Its evaluation raises an alarm">!&#160;</span>
            {{ text(g.mean) }}
          </template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.bad {
  color: var(--bad);
}
</style>
