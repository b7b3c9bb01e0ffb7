<script setup lang="ts">
import { ElOption, ElSegmented, ElSelect } from 'element-plus'
import { computed, shallowRef, watch } from 'vue'
import { answer, client, type Comparison, type Learning } from '../api/client'
import CurveControls from '../chart/CurveControls.vue'
import CurveChart from '../chart/CurveChart.vue'
import { useLoading } from '../shared/loading'
import { useLook } from '../chart/look'
import { useQuery } from '../shared/query'
import { axisOf, drawnLines } from './looks'

/** Curves of the runs over each other, and less the baseline's. */
const props = defineProps<{
  project: string
  comparison: Comparison
  query: Record<string, string>
  curves: string[]
  round: number
}>()
const { axis, scale, smooth, kind, hide, range, setZoom } = useLook()
const shown = useQuery<string>('drawn', '')
const lines = useQuery<string>('lines', '')
const { problem, loader } = useLoading()
const learning = shallowRef<Learning>()

const objective = computed(() => props.comparison.objective.curve)
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
/** The service's word for an axis. */
const by = computed(() => (axis.value === 'since' ? 'time' : axis.value) as 'epoch' | 'step' | 'time')
const load = loader(async () => {
  const query = {
    ...props.query,
    names: picked.value,
    by: by.value,
    ...(smooth.value > 0 ? { [kind.value === 'median' ? 'median' : 'smooth']: smooth.value } : {}),
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
})
const asked = () => [
  props.query,
  picked.value.join(),
  by.value,
  smooth.value,
  kind.value,
  form.value,
  range.value,
  props.round,
]
watch(asked, load, { immediate: true })

const charts = computed(() => {
  const l = learning.value
  if (!l) return []
  return picked.value.map((name) => ({
    name,
    all: drawnLines(props.comparison, l, name, false),
    less: l.baseline ? drawnLines(props.comparison, l, name, true) : [],
  }))
})
/** The axis of what was read, until the new has come. */
const drawnBy = computed(() => axisOf(learning.value?.by ?? by.value))
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
      curves: [{ ...d, look: d.look && { ...d.look, label: '' } }],
    })),
  ),
)
</script>

<template>
  <div>
    <CurveControls :axes="['epoch', 'step', 'since']" :unit="axis">
      <template #lines>
        <ElSegmented v-model="form" size="small" :options="forms" aria-label="Lines" />
      </template>
      <ElSelect v-model="picked" multiple collapse-tags filterable size="small" class="names" aria-label="Curves">
        <ElOption v-for="n in curves" :key="n" :value="n" :label="n" />
      </ElSelect>
    </CurveControls>
    <p v-if="problem" class="bad small" role="alert">{{ problem }}</p>
    <p v-if="none.length" class="small">No run has {{ none.join(', ') }} on this axis.</p>
    <div v-if="form === 'small'" class="grid">
      <CurveChart
        v-for="s in small"
        :key="s.name + s.title"
        :title="s.title"
        :file="`${project}-compared`"
        :curves="s.curves"
        :axis="drawnBy"
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
          :axis="drawnBy"
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
          :axis="drawnBy"
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
.names {
  width: 190px;
}
.pair {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 20px;
}
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
  gap: 14px 20px;
}
@media (max-width: 700px) {
  .pair {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
