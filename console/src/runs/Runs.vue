<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from 'element-plus'
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, Refused, type Project, type Run, type StopState, type Words } from '../api/client'
import FilterLine from './FilterLine.vue'
import StopRule from '../shared/StopRule.vue'
import Export from '../shared/Export.vue'
import { once, useLive, type News } from '../shared/live'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'
import { useTray } from '../shared/tray'
import { figure, place } from '../shared/format'
import ColumnChooser from './ColumnChooser.vue'
import {
  asked,
  hyperValue,
  isField,
  learnLabels,
  readColumns,
  writeColumns,
  type Column,
  type Fitting,
  widthFor,
} from '../shared/columns'
import { useRunList } from './list'
import RunsTable from './RunsTable.vue'
import ViewMenu from './ViewMenu.vue'

const props = defineProps<{ project: string }>()
const route = useRoute()
const router = useRouter()
const info = ref<Project>()
const words = shallowRef<Words>()
const problem = ref('')
/** What is wrong with the filter, in the service's words. */
const filterProblem = ref('')
const where = useQuery<string>('where', '')
const sort = useQuery<string>('sort', '')
const order = useQuery<'' | 'ascending' | 'descending'>('order', '')
const shown = useQuery<'' | 'archived' | 'deleted' | 'all'>('shown', '')
const columnsText = useQuery<string>('columns', '')
const widths = useQuery<string>('widths', '')
const formats = useQuery<string>('formats', '')
const tray = useTray()
const now = ref(Date.now())
const clock = setInterval(() => (now.value = Date.now()), 1000)
onScopeDispose(() => {
  clearInterval(clock)
})

/** Which hyperparameters have a column unless the link says which columns there are. */
const differing = ref<string[]>([])
const fitting = ref<Fitting>({})
const usual = computed(() =>
  [
    'curve',
    'verdict',
    'best',
    'place',
    'last',
    info.value?.baseline ? 'against' : '',
    ...differing.value.map(hyperValue),
    'state',
    'who',
    'started',
    'took',
  ]
    .filter(Boolean)
    .join(','),
)
const columns = computed<Column[]>(() => {
  const objective = info.value?.objective.curve ?? ''
  const list = readColumns(columnsText.value || usual.value, widths.value, formats.value, fitting.value)
  const curve = list.find((c) => c.what === 'curve')
  if (curve) curve.label = objective
  return list
})
const values = computed(() => asked(columns.value))
function setColumns(list: Column[]) {
  const query: Record<string, string> = {
    ...(route.query as Record<string, string>),
    ...writeColumns(list, fitting.value),
  }
  for (const k of ['widths', 'formats']) if (!query[k]) delete query[k]
  void router.replace({ query })
}
function usualColumns() {
  const query = { ...route.query }
  for (const k of ['columns', 'widths', 'formats']) delete query[k]
  void router.replace({ query })
}
const setWidth = (i: number, width: number) => {
  setColumns(columns.value.map((c, k) => (k === i ? { ...c, width } : c)))
}

const choice = () => ({
  where: where.value,
  sort: sort.value,
  order: order.value,
  shown: shown.value,
  columns: values.value.join(','),
})
const { total, known, says, row, ensure, reload, patch, loaded } = useRunList(props.project, choice)
const table = ref<InstanceType<typeof RunsTable>>()
const view = ref({ from: 0, to: 40 })

async function tried(work: () => Promise<unknown>) {
  try {
    await work()
    problem.value = filterProblem.value = ''
  } catch (e) {
    const ofFilter = e instanceof Refused && e.field === 'where'
    filterProblem.value = ofFilter ? e.message : ''
    problem.value = ofFilter ? '' : (e as Error).message
  }
}
const load = once(() => tried(() => reload(view.value.from, view.value.to)))
/** What stands beside the list has problems of its own: that it is well says nothing of the list. */
const { problem: beside, loader } = useLoading()
const loadInfo = loader(async () => {
  info.value = await answer(client.GET('/api/v1/projects/{project}', { params: { path: { project: props.project } } }))
})
const loadWords = loader(async () => {
  const params = { path: { project: props.project } }
  words.value = await answer(client.GET('/api/v1/projects/{project}/words', { params }))
  learnLabels(words.value)
})
watch(
  values,
  (list) => {
    if (list.some(isField)) void loadWords()
  },
  { immediate: true },
)
function look(from: number, to: number) {
  view.value = { from, to }
  void tried(() => ensure(from, to))
}
watch([where, sort, order, shown], () => {
  table.value?.toTop()
  view.value = { from: 0, to: 40 }
  void load()
})
watch(values, (a, b) => {
  if (a.join() !== b.join() && known.value) void load()
})
/** The hyperparameters in which the first runs differ, most varied first; found once, so that columns do not come and go. */
watch(known, () => {
  const seen = new Map<string, Set<string>>()
  for (const r of loaded.value) {
    for (const [name, v] of Object.entries(r.hyper))
      seen.set(name, (seen.get(name) ?? new Set()).add(JSON.stringify(v)))
  }
  differing.value = [...seen]
    .filter(([name, set]) => set.size > 1 && !/(^|[._-])seed$/.test(name))
    .sort((a, b) => b[1].size - a[1].size || a[0].localeCompare(b[0]))
    .slice(0, 3)
    .map(([name]) => name)
  fitting.value = Object.fromEntries(
    differing.value.map((n) => [
      hyperValue(n),
      widthFor([
        n,
        ...[...(seen.get(n) ?? [])].map((t) =>
          Number.isFinite(Number(t)) ? String(Number(Number(t).toPrecision(6))) : t,
        ),
      ]),
    ]),
  )
})

const rule = ref<StopState>()
const loadRule = loader(async () => {
  const path = { project: props.project }
  rule.value = await answer(client.GET('/api/v1/projects/{project}/stop-rule', { params: { path } }))
})
/** On how many of the newest runs a rule is tried. */
const newest = computed(() => loaded.value.slice(0, 10).map((r) => r.number))

/** News of runs, gathered for a moment: those shown are read anew where they stand. */
let told = new Set<number>()
let timer = 0
/** The list has changed beyond what is patched: runs came, went, or have other places. */
const stale = ref(false)
function gather(news: News) {
  if (news.run) told.add(news.run)
  if (timer) return
  timer = window.setTimeout(() => {
    timer = 0
    const numbers = [...told]
    told = new Set()
    void tried(() => patch(numbers))
  }, 400)
}
async function changed(news: News) {
  await loadInfo()
  if (
    news.run &&
    loaded.value.some((r) => r.number === news.run) &&
    !['archived', 'unarchived', 'to-be-deleted', 'kept', 'deleted'].includes(news.verb ?? '')
  ) {
    gather(news)
    return
  }
  await grown()
}
/** Runs came or went. At the top of the list they show at once; further down the rows in view stay where they are. */
const grown = once(async () => {
  const state = table.value?.range()
  const before = total.value
  if (state && !state.atTop && (sort.value || where.value)) {
    stale.value = true
    return
  }
  await tried(() => reload(view.value.from, view.value.to))
  if (state && !state.atTop) table.value?.shift(total.value - before)
  stale.value = false
})
function refresh() {
  stale.value = false
  table.value?.toTop()
  view.value = { from: 0, to: 40 }
  void load()
}
async function everything() {
  await Promise.all([loadInfo(), load(), loadRule(), loadWords()])
}
useLive(
  { project: props.project },
  {
    hello: everything,
    project: async () => {
      await Promise.all([loadInfo(), loadRule(), grown()])
    },
    run: changed,
    leg: gather,
    summary: gather,
  },
)

function sortBy(what: string) {
  const lower = info.value?.objective.direction !== 'higher'
  const natural = (what === 'best' || what === 'last') && !lower ? 'descending' : 'ascending'
  const other = natural === 'ascending' ? 'descending' : 'ascending'
  const query: Record<string, string> = { ...(route.query as Record<string, string>) }
  delete query.order
  if (sort.value !== what) query.sort = what
  else if (order.value !== other) query.order = other
  else delete query.sort
  void router.replace({ query })
}

async function edit(run: Run, what: 'title' | 'tags' | 'note', text: string) {
  const tags = text
    .split(',')
    .map((t) => t.trim())
    .filter(Boolean)
  const body = what === 'tags' ? { tags } : { [what]: text }
  await tried(async () => {
    const params = { path: { project: props.project, number: run.number } }
    await answer(client.PATCH('/api/v1/projects/{project}/runs/{number}', { params, body }))
    await patch([run.number])
  })
}

/** What is shown as a file: the same runs, in the same order, with the same columns as far as they are values. */
/** Columns of the console's own that are no values have no place in a file. */
const noValues = ['curve', 'place', 'against']
const fileForms = { csv: 'CSV', jsonl: 'JSON Lines', parquet: 'Parquet' }
const files = computed(() => {
  const list = columns.value.map((c) => c.what).filter((w) => !noValues.includes(w))
  return Object.entries(fileForms).map(([format, name]) => {
    const q = new URLSearchParams({ ...choice(), what: 'runs', format, columns: list.join(',') })
    return { label: `What is shown as ${name}`, href: `/api/v1/projects/${props.project}/history?${q.toString()}` }
  })
})
const show = (what: string) => (shown.value = what === 'active' ? '' : (what as typeof shown.value))
const counted = computed(() => {
  if (!known.value) return ''
  const n = total.value.toLocaleString('en')
  const all = info.value?.runs ?? total.value
  return where.value || total.value !== all ? `${n} of ${all.toLocaleString('en')} runs` : `${n} runs`
})
</script>

<template>
  <main class="runs">
    <div class="head">
      <h1>{{ info?.title || project }}</h1>
      <span v-if="info" class="small">
        judged by {{ info.objective.curve }}, {{ info.objective.direction }}
        <template v-if="info.best">
          · best {{ figure(info.best) }} by
          <RouterLink class="mono" :to="{ name: 'run', params: { project, number: info.best_run } }">
            {{ project }}/{{ info.best_run }}{{ place(info.best) }}
          </RouterLink>
        </template>
        <template v-if="info.baseline">
          · baseline
          <RouterLink class="mono" :to="{ name: 'run', params: { project, number: info.baseline } }">
            {{ project }}/{{ info.baseline }}
          </RouterLink>
        </template>
      </span>
      <span class="space"></span>
      <StopRule v-if="rule && total" :project="project" :state="rule" running :tries="newest" @changed="loadRule" />
    </div>
    <p v-if="problem || beside" class="bad problem" role="alert">{{ problem || beside }}</p>
    <div v-if="info" class="line">
      <FilterLine v-model="where" :project="project" :problem="filterProblem" />
      <span class="small count" aria-live="polite">{{ counted }}</span>
      <ElSelect
        :model-value="shown || 'active'"
        size="small"
        class="shown"
        aria-label="Which runs are shown"
        @change="show"
      >
        <ElOption value="active" label="active" />
        <ElOption value="archived" label="archived" />
        <ElOption value="deleted" label="about to be deleted" />
        <ElOption value="all" label="all" />
      </ElSelect>
      <ViewMenu :project="project" />
      <ColumnChooser :words="words" :columns="columns" @change="setColumns" @usual="usualColumns" @open="loadWords" />
      <Export :files="files" />
    </div>
    <p v-if="stale" class="small stale" role="status">
      The list has changed.
      <ElButton link size="small" @click="refresh">Show it anew</ElButton>
    </p>
    <p v-if="known && !total && (where || shown)" class="none">No run is like that. {{ says }}</p>
    <div v-else-if="known && !total" class="page">
      <p>A run is one training of one model. Record the first one:</p>
      <pre class="command">kembrel record --project {{ project }} -- ./harbour train</pre>
    </div>
    <RunsTable
      v-else-if="known"
      ref="table"
      :project="project"
      :columns="columns"
      :values="values"
      :total="total"
      :row="row"
      :sort="sort"
      :order="order"
      :lower="info?.objective.direction !== 'higher'"
      :tray="tray.runs.value"
      :now="now"
      :title-width="196"
      @view="look"
      @sort="sortBy"
      @toggle="tray.toggle"
      @width="setWidth"
      @edit="edit"
    />
  </main>
</template>

<style scoped>
.runs {
  display: flex;
  flex-direction: column;
  height: calc(100vh - 44px - 42px);
}
.head {
  display: flex;
  align-items: baseline;
  gap: 18px;
  padding: 12px 24px 8px;
}
.line {
  display: flex;
  align-items: flex-start;
  gap: 10px;
  padding: 0 24px 8px;
}
.line > :first-child {
  flex: 1;
  min-width: 0;
}
.line .el-button {
  margin: 0;
}
.count {
  padding-top: 3px;
  white-space: nowrap;
}
.shown {
  width: 104px;
}
.stale,
.none,
.problem {
  padding: 0 24px;
  margin: 0 0 8px;
}
</style>
