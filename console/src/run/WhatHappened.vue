<script setup lang="ts">
import { computed } from 'vue'
import type { Output, RunDetail } from '../api/client'
import { inBytes, type Drawn } from '../chart/curves'
import { linkTo, number as text, took, when } from '../shared/format'
import CurveChart from '../chart/CurveChart.vue'
import StateMark from '../shared/StateMark.vue'

/** What happened to a run: its legs, the machine's use, notes, and what the program printed. */
const props = defineProps<{
  run: RunDetail
  machine: { family: string; curves: Drawn[] }[]
  output: Output[]
  now: number
}>()
const printed = computed(() => props.output.map((o) => o.text).join(''))
</script>

<template>
  <table class="legs">
    <thead>
      <tr>
        <th>Leg</th>
        <th>State</th>
        <th>Host</th>
        <th>From</th>
        <th class="n">Steps</th>
        <th>Began</th>
        <th class="n">Took</th>
        <th class="n">Exit code</th>
        <th>Remark</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="l in run.legs" :key="l.number">
        <td class="mono">{{ l.number }}</td>
        <td><StateMark :state="l.state" /></td>
        <td>{{ l.host }}</td>
        <td class="mono">
          <RouterLink v-if="l.resumed" :to="linkTo(l.resumed.from)">{{ l.resumed.from }}</RouterLink>
          <span v-if="l.resumed?.lacks?.length" class="warn">without {{ l.resumed.lacks.join(', ') }}</span>
        </td>
        <td class="n">{{ text(l.from_step) }} – {{ text(l.last_step) }}</td>
        <td class="small">{{ when(l.started) }}</td>
        <td class="n">{{ took(l.started, l.ended, now) }}</td>
        <td class="n">{{ l.exit_code }}</td>
        <td class="small">{{ [l.signal, l.why].filter(Boolean).join('; ') }}</td>
      </tr>
    </tbody>
  </table>
  <div v-if="machine.length" class="machine">
    <CurveChart
      v-for="m in machine"
      :key="m.family"
      :title="m.family"
      :file="run.address.replace('/', '-')"
      :curves="m.curves"
      axis="since"
      scale="linear"
      :hide="0"
      :from="null"
      :to="null"
      :height="130"
      :bytes="inBytes(m.family)"
    />
  </div>
  <ul v-if="run.notes?.length" class="notes">
    <li v-for="(n, i) in run.notes" :key="i">
      <span class="small">{{ when(n.at) }}</span>
      {{ n.text }}
    </li>
  </ul>
  <template v-if="printed">
    <h3>Output</h3>
    <!-- Focusable, so that it can be scrolled by keyboard. -->
    <pre class="output" tabindex="0" aria-label="output of the program">{{ printed }}</pre>
  </template>
</template>

<style scoped>
.machine {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 16px 20px;
  margin-top: 14px;
}
h3 {
  font-size: 12px;
  font-weight: 500;
  color: var(--ink2);
  margin: 16px 0 4px;
}
.output {
  font: 12px/1.5 var(--mono);
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-radius: 4px;
  padding: 8px 12px;
  margin: 0;
  max-height: 260px;
  overflow: auto;
  display: flex;
  flex-direction: column-reverse;
}
.notes {
  padding-left: 18px;
}
@media (max-width: 700px) {
  .machine {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
