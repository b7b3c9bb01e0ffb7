<script setup lang="ts">
import { ElInputNumber, ElOption, ElSegmented, ElSelect } from 'element-plus'
import { computed, ref, shallowRef, watch } from 'vue'
import { answer, client, type Comparison, type Learning } from '../api/client'
import CurveChart from '../components/CurveChart.vue'
import { once } from '../composables/live'
import { useQuery } from '../composables/query'
import { axisOf, drawnLines } from './looks'

/** Curves of the runs over each other, and less the baseline's. */
const props = defineProps<{
  project: string
  comparison: Comparison
  query: Record<string, string>
  curves: string[]
  round: number
}>()
const by = useQuery<string>('by', 'epoch')
const scale = useQuery<string>('scale', 'linear')
const smooth = useQuery<number>('smooth', 0)
const hide = useQuery<number>('hide', 0)
const zoom = useQuery<string>('zoom', '')
const shown = useQuery<string>('drawn', '')
const lines = useQuery<string>('lines', '')
const problem = ref('')
const learning = shallowRef<Learning>()

const objective = computed(() => props.comparison.objective.split(' ')[0])
const picked = computed({
  get: () => (shown.value ? shown.value.split(',') : [objective.value]),
  set: (list: string[]) => (shown.value = list.join(',') === objective.value ? '' : list.join(',')),
})
const seeds = computed(() => (props.comparison.groups?.length ?? 0) < (props.comparison.runs?.length ?? 0))
/** One line a group where there are seeds; small charts where there are too many lines for one. */
const tooMany = 8
const form = computed({
  get: () => lines.value || (seeds.value ? 'means' : (props.comparison.runs?.length ?? 0) > tooMany ? 'small' : 'runs'),
  set: (f: string) => (lines.value = f),
})
const forms = computed(() => [
  ...(seeds.value ? [{ label: 'mean of seeds', value: 'means' }] : []),
  { label: 'each run', value: 'runs' },
  { label: 'small charts', value: 'small' },
])
const range = computed(() => {
  const [a, b] = zoom.value.split('~').map(Number)
  return zoom.value && Number.isFinite(a) && Number.isFinite(b) ? { from: a, to: b } : { from: null, to: null }
})
const setZoom = (from: number | null, to: number | null) => {
  zoom.value = from === null || to === null ? '' : `${Number(from.toPrecision(6))}~${Number(to.toPrecision(6))}`
}
const load = once(async () => {
  try {
    const query = {
      ...props.query,
      names: picked.value,
      by: by.value as 'epoch',
      smooth: smooth.value,
      groups: form.value === 'means',
      pixels: 600,
      from: range.value.from ?? undefined,
      to: range.value.to ?? undefined,
    }
    learning.value = await answer(
      client.GET('/api/v1/projects/{project}/comparison/curves', {
        params: { path: { project: props.project }, query: query as never },
        querySerializer: { array: { style: 'form', explode: false } },
      }),
    )
    problem.value = ''
  } catch (e) {
    problem.value = (e as Error).message
  }
})
watch(() => [props.query, picked.value.join(), by.value, smooth.value, form.value, zoom.value, props.round], load, {
  immediate: true,
})

const charts = computed(() => {
  const l = learning.value
  if (!l) return []
  return picked.value.map((name) => ({
    name,
    all: drawnLines(props.comparison, l, name, false),
    less: l.baseline ? drawnLines(props.comparison, l, name, true) : [],
  }))
})
const axis = computed(() => axisOf(learning.value?.by ?? by.value))
const none = computed(() => charts.value.filter((c) => !c.all.length).map((c) => c.name))
const runTitle = (n: number) => {
  const r = props.comparison.runs?.find((r) => r.number === n)
  return r?.title ? `${n} ${r.title}` : `${props.project}/${n}`
}
const small = computed(() =>
  charts.value.flatMap((c) =>
    c.all.map((d) => ({
      ...c,
      title: runTitle(Number(d.name.split(' of ')[1])),
      curves: [{ ...d, look: { ...d.look!, label: '' } }],
    })),
  ),
)
</script>

<template>
  <div>
    <div class="controls">
      <ElSegmented
        v-model="by"
        size="small"
        :options="[
          { label: 'epoch', value: 'epoch' },
          { label: 'step', value: 'step' },
          { label: 'time since start', value: 'time' },
        ]"
        aria-label="Axis"
        @change="setZoom(null, null)"
      />
      <ElSegmented v-model="scale" size="small" :options="['linear', 'log']" aria-label="Scale" />
      <ElSegmented v-model="form" size="small" :options="forms" aria-label="Lines" />
      <label class="small">
        Smooth
        <ElInputNumber v-model="smooth" size="small" :min="0" :step="1" controls-position="right" />
      </label>
      <label class="small">
        Hide the first
        <ElInputNumber v-model="hide" size="small" :min="0" :step="1" controls-position="right" />
        epochs
      </label>
      <ElSelect v-model="picked" multiple collapse-tags size="small" class="names" aria-label="Curves">
        <ElOption v-for="n in curves" :key="n" :value="n" :label="n" />
      </ElSelect>
    </div>
    <p v-if="problem" class="bad small" role="alert">{{ problem }}</p>
    <p v-if="none.length" class="small">No run has {{ none.join(', ') }} on this axis.</p>
    <div v-if="form === 'small'" class="grid">
      <CurveChart
        v-for="s in small"
        :key="s.name + s.title"
        :title="s.title"
        :file="`${project}-compared`"
        :curves="s.curves"
        :axis="axis"
        :scale="scale"
        :hide="hide"
        :from="range.from"
        :to="range.to"
        :height="120"
        @zoom="setZoom"
      />
    </div>
    <template v-else>
      <div v-for="c in charts" :key="c.name" :class="{ pair: c.less.length }">
        <CurveChart
          v-if="c.all.length"
          :title="c.name"
          :file="`${project}-compared`"
          :curves="c.all"
          :axis="axis"
          :scale="scale"
          :hide="hide"
          :from="range.from"
          :to="range.to"
          @zoom="setZoom"
        />
        <CurveChart
          v-if="c.less.length"
          :title="`${c.name} less ${project}/${learning?.baseline}`"
          :file="`${project}-less-baseline`"
          :curves="c.less"
          :axis="axis"
          scale="linear"
          :hide="hide"
          :from="range.from"
          :to="range.to"
          @zoom="setZoom"
        />
      </div>
    </template>
  </div>
</template>

<style scoped>
.controls {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 14px;
  margin-bottom: 10px;
}
.controls .el-input-number {
  width: 76px;
}
.names {
  width: 190px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 20px;
}
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
  gap: 14px 20px;
}
</style>
