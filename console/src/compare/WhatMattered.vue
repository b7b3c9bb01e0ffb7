<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import type { EChartsType } from 'echarts/core'
import { computed, ref } from 'vue'
import type { Mattered } from '../api/client'
import { dark } from '../composables/theme'
import { number, toNumber } from '../format'
import Drawing from './Drawing.vue'
import { drawnValue, interactions, parallel, scatter } from './options'

/** Which hyperparameters mattered: importance and correlation, and drawings of the runs they come from. */
const props = defineProps<{ project: string; mattered: Mattered }>()
const influences = computed(() => props.mattered.influences ?? [])
const most = computed(() => Math.max(0.01, ...influences.value.map((v) => toNumber(v.importance))))
const chosenX = ref('')
const chosenY = ref('')
const x = computed(() =>
  influences.value.some((v) => v.name === chosenX.value) ? chosenX.value : (influences.value[0]?.name ?? ''),
)
const y = computed(() =>
  influences.value.some((v) => v.name === chosenY.value) && chosenY.value !== x.value ? chosenY.value : '',
)
const points = computed(() => props.mattered.points ?? [])
const names = computed(() => influences.value.slice(0, 6).map((v) => v.name))
const scattered = computed(() => (void dark.value, scatter(props.mattered, x.value, y.value, props.project)))
const lines = computed(() => (void dark.value, parallel(props.mattered, names.value, props.project)))
const together = computed(() => (void dark.value, interactions(props.mattered)))
const table = computed(() => [
  ['run', 'title', ...names.value, props.mattered.figure],
  ...points.value.map((p) => [
    `${props.project}/${p.run}`,
    p.title,
    ...names.value.map((n) => String(drawnValue(p, n))),
    String(p.figure),
  ]),
])
const pairTable = computed(() => [
  ['a', 'b', 'strength'],
  ...(props.mattered.pairs ?? []).map((p) => [p.a, p.b, String(p.strength)]),
])
/** Begins with the best tenth brushed. */
function brush(chart: EChartsType) {
  chart.dispatchAction({
    type: 'axisAreaSelect',
    parallelAxisIndex: names.value.length,
    intervals: [lines.value.brush],
  })
}
function pick(data: unknown) {
  const cell = (data as { value?: number[] })?.value
  if (!cell) return
  const [a, b] = cell
  chosenX.value = together.value.names[a]
  chosenY.value = together.value.names[b]
}
const at = (v: number) => 60 + 56 * v
</script>

<template>
  <div>
    <table>
      <thead>
        <tr>
          <th scope="col">Hyperparameter</th>
          <th scope="col">Importance</th>
          <th scope="col" class="n">of the variance</th>
          <th scope="col">Rank correlation, 95 % interval</th>
          <th scope="col" class="n">Runs</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="v in influences.slice(0, 12)" :key="v.name">
          <td>{{ v.name }}</td>
          <td class="bar">
            <span :style="{ width: `${(100 * toNumber(v.importance)) / most}%` }"></span>
          </td>
          <td class="n">{{ Math.round(toNumber(v.importance) * 1000) / 1000 }}</td>
          <td class="whisker">
            <svg v-if="v.correlation !== 'NaN'" width="120" height="18" aria-hidden="true">
              <path d="M60 1V17" stroke="var(--rule2)" />
              <path
                v-if="v.low !== 'NaN'"
                :d="`M${at(toNumber(v.low))} 9H${at(toNumber(v.high))}`"
                stroke="var(--ink3)"
                stroke-width="2"
              />
              <circle :cx="at(toNumber(v.correlation))" cy="9" r="3.4" fill="var(--accent)" />
            </svg>
            <span class="mono">{{ v.correlation === 'NaN' ? '–' : number(v.correlation) }}</span>
            <span v-if="v.low !== 'NaN'" class="mono small">{{ number(v.low) }} to {{ number(v.high) }}</span>
          </td>
          <td class="n">{{ v.runs }}</td>
        </tr>
      </tbody>
    </table>
    <template v-if="points.length > 2 && influences.length">
      <div class="pair">
        <Drawing
          :title="y ? `${x} and ${y}` : `${x} against ${mattered.figure}`"
          :file="`${project}-${x}`"
          :option="scattered"
          :height="260"
          :csv="table"
          :says="`${points.length} runs by ${x} and ${y || mattered.figure}`"
        >
          <ElSelect
            :model-value="x"
            size="small"
            class="choose"
            aria-label="Across"
            @change="(v: string) => (chosenX = v)"
          >
            <ElOption v-for="v in influences" :key="v.name" :value="v.name" :label="v.name" />
          </ElSelect>
          <ElSelect
            :model-value="y"
            size="small"
            class="choose"
            placeholder="the figure"
            clearable
            aria-label="Upwards"
            @change="(v: string) => (chosenY = v ?? '')"
          >
            <ElOption v-for="v in influences" :key="v.name" :value="v.name" :label="v.name" />
          </ElSelect>
        </Drawing>
        <Drawing
          v-if="mattered.pairs?.length"
          title="Interactions"
          :file="`${project}-pairs`"
          :option="together.option"
          :height="260"
          :csv="pairTable"
          says="how much hyperparameters act together, two by two; the table has the numbers"
          @pick="pick"
        />
      </div>
      <Drawing
        title="Every run"
        :file="`${project}-runs`"
        :option="lines.option"
        :height="230"
        :csv="table"
        :says="`${points.length} runs over ${names.join(', ')} and ${mattered.figure}; the best tenth stands out`"
        @ready="brush"
      >
        <span class="small">the best tenth stands out; drag along an axis to choose others</span>
      </Drawing>
    </template>
  </div>
</template>

<style scoped>
td.bar {
  width: 22%;
}
td.bar span {
  display: block;
  height: 8px;
  background: var(--accent);
}
.whisker svg {
  vertical-align: middle;
}
.whisker .mono {
  margin-left: 8px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 20px;
  margin-top: 14px;
}
.choose {
  width: 120px;
}
</style>
