<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import type { EChartsType } from 'echarts/core'
import { computed, ref } from 'vue'
import type { Mattered } from '../api/client'
import { dark } from '../shared/theme'
import Drawing from './Drawing.vue'
import Effects from './Effects.vue'
import { drawnValue, interactions, parallel, scatter } from './options'

/** Which hyperparameters mattered: their effects first, then two by two, then every run. */
const props = defineProps<{ project: string; mattered: Mattered }>()
const influences = computed(() => props.mattered.influences ?? [])
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
</script>

<template>
  <div>
    <Effects :project="project" :mattered="mattered" />
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
.pair {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 20px;
  margin-top: 14px;
}
.choose {
  width: 120px;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
