<script setup lang="ts">
import type { RuleRun } from '../api/client'
import { linkTo, number, when } from '../shared/format'

/** What a rule made, or would have made, of runs. */
defineProps<{ runs: RuleRun[]; model: string }>()
const entered = (r: RuleRun) => r.fate === 'enters'
const range = (r: RuleRun) =>
  r.low === undefined || r.high === undefined ? '' : `${number(r.low)} to ${number(r.high)}`
</script>

<template>
  <table>
    <thead>
      <tr>
        <th>Run</th>
        <th>Ended</th>
        <th class="n">Figure</th>
        <th class="n">Better by</th>
        <th class="n">With the noise</th>
        <th>What becomes of it</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in runs" :key="r.run + r.ended" :class="{ entered: entered(r) }">
        <td class="mono">
          <RouterLink :to="linkTo(r.run)">{{ r.run }}</RouterLink>
        </td>
        <td class="small">{{ when(r.ended) }}</td>
        <td class="n">{{ r.figure === undefined ? '' : number(r.figure) }}</td>
        <td class="n">{{ r.better === undefined ? '' : number(r.better) }}</td>
        <td class="n small">{{ range(r) }}</td>
        <td class="small long">
          <RouterLink v-if="r.edition" class="mono" :to="{ name: 'edition', params: { model, edition: r.edition } }">
            #{{ r.edition }}
          </RouterLink>
          {{ r.says }}
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.long {
  white-space: normal;
}
.long a {
  text-decoration: underline;
}
.entered td:first-child {
  box-shadow: inset 3px 0 0 var(--accent);
  padding-left: 10px;
}
</style>
