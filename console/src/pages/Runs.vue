<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type Project, type Run, type StopState } from '../api/client'
import FilterLine from '../components/FilterLine.vue'
import Sketch from '../components/Sketch.vue'
import StateMark from '../components/StateMark.vue'
import StopRule from '../components/StopRule.vue'
import { once, useLive } from '../composables/live'
import { useQuery } from '../composables/query'
import { figure, hyper, place, toNumber, took, when } from '../format'

const props = defineProps<{ project: string }>()
const info = ref<Project>()
const runs = ref<Run[]>()
const more = ref('')
const problem = ref('')
const sort = useQuery<string>('sort', '')
const where = useQuery<string>('where', '')
/** What is wrong with the filter, in the service's words. */
const filterProblem = ref('')
const now = ref(Date.now())

/** Reads the first page anew and keeps the older ones that were asked for. */
const load = once(async () => {
  try {
    const path = { project: props.project }
    info.value = await answer(client.GET('/api/v1/projects/{project}', { params: { path } }))
    const page = await answer(
      client.GET('/api/v1/projects/{project}/runs', { params: { path, query: { limit: 100, where: where.value } } }),
    )
    filterProblem.value = ''
    const items = page.items ?? []
    const last = items[items.length - 1]?.number ?? 0
    const older = (runs.value ?? []).filter((r) => r.number < last)
    if (!older.length) more.value = page.next ?? ''
    runs.value = [...items, ...older]
    now.value = Date.now()
    problem.value = ''
  } catch (e) {
    const text = (e as Error).message
    if (text.startsWith('where, ')) filterProblem.value = text.slice('where, '.length)
    else problem.value = text
  }
})
watch(where, () => {
  runs.value = undefined
  void load()
})

const rule = ref<StopState>()
const loadRule = once(async () => {
  const path = { project: props.project }
  rule.value = await answer(client.GET('/api/v1/projects/{project}/stop-rule', { params: { path } }))
})
/** On how many of the newest runs a rule is tried. */
const tried = 10

async function loadMore() {
  const params = { path: { project: props.project }, query: { limit: 100, cursor: more.value, where: where.value } }
  const page = await answer(client.GET('/api/v1/projects/{project}/runs', { params }))
  runs.value = [...(runs.value ?? []), ...(page.items ?? [])]
  more.value = page.next ?? ''
}
async function loadProject() {
  await Promise.all([load(), loadRule()])
}
useLive({ project: props.project }, { hello: loadProject, project: loadProject, run: load, leg: load, summary: load })

/** The hyperparameters in which the runs differ, most varied first, as far as there is room. */
const differing = computed(() => {
  const values = new Map<string, Set<string>>()
  for (const r of runs.value ?? []) {
    for (const [name, v] of Object.entries(r.hyper)) {
      if (!values.has(name)) values.set(name, new Set())
      values.get(name)!.add(JSON.stringify(v))
    }
  }
  return [...values]
    .filter(([, set]) => set.size > 1)
    .sort((a, b) => b[1].size - a[1].size || a[0].localeCompare(b[0]))
    .slice(0, 4)
    .map(([name]) => name)
})

type Key = (r: Run) => number | string
const columns = computed<Record<string, Key>>(() => ({
  run: (r) => r.number,
  best: (r) => toNumber(r.best?.value),
  last: (r) => toNumber(r.last?.value),
  state: (r) => r.state,
  who: (r) => r.who,
  started: (r) => r.started,
  took: (r) => (r.ended ? Date.parse(r.ended) : now.value) - Date.parse(r.started),
  ...Object.fromEntries(
    differing.value.map((n) => [
      'hyper.' + n,
      (r: Run) => (typeof r.hyper[n] === 'number' ? (r.hyper[n] as number) : hyper(r.hyper[n] ?? '')),
    ]),
  ),
}))

const sorted = computed(() => {
  const down = sort.value.startsWith('-')
  const key = columns.value[sort.value.replace('-', '')]
  if (!key || !runs.value) return runs.value ?? []
  // What has no value stands at the end either way.
  const absent = (v: number | string) => v === '' || Number.isNaN(v)
  return [...runs.value].sort((a, b) => {
    const [x, y] = [key(a), key(b)]
    if (absent(x) || absent(y)) return Number(absent(x)) - Number(absent(y))
    const order = x < y ? -1 : x > y ? 1 : 0
    return down ? -order : order
  })
})

function direction(column: string) {
  if (sort.value === column) return 'ascending'
  return sort.value === '-' + column ? 'descending' : 'none'
}

function sortBy(column: string) {
  sort.value = sort.value === column ? '-' + column : sort.value === '-' + column ? '' : column
}

const objective = computed(() => info.value?.objective.split(' ')[0] ?? '')
const heads = computed(() => [
  { name: 'run', label: 'Run', n: false },
  { name: '', label: objective.value, n: false },
  { name: '', label: 'Verdict', n: false },
  { name: 'best', label: 'Best', n: true },
  { name: '', label: 'at', n: false },
  { name: 'last', label: 'Last', n: true },
  ...differing.value.map((n) => ({ name: 'hyper.' + n, label: n, n: true })),
  { name: 'state', label: 'State', n: false },
  { name: 'who', label: 'Who', n: false },
  { name: 'started', label: 'Started', n: false },
  { name: 'took', label: 'Took', n: true },
])
</script>

<template>
  <main>
    <div class="head">
      <h1>{{ info?.title || project }}</h1>
      <span v-if="info" class="small">
        {{ info.runs }} runs, judged by {{ info.objective }}
        <template v-if="info.best">
          · best {{ figure(info.best) }} by
          <RouterLink class="mono" :to="{ name: 'run', params: { project, number: info.best_run } }">
            {{ project }}/{{ info.best_run }}{{ place(info.best) }}
          </RouterLink>
        </template>
      </span>
      <span class="space"></span>
      <StopRule
        v-if="rule && runs?.length"
        :project="project"
        :state="rule"
        running
        :tries="runs.slice(0, tried).map((r) => r.number)"
        @changed="loadRule"
      />
    </div>
    <p v-if="problem" class="bad problem" role="alert">{{ problem }}</p>
    <FilterLine v-if="info?.runs" v-model="where" :project="project" :problem="filterProblem" />
    <p v-if="runs && !runs.length && where" class="none">No run is like that.</p>
    <div v-else-if="runs && !runs.length" class="page">
      <p>A run is one training of one model. Record the first one:</p>
      <pre class="command">kembrel record --project {{ project }} -- ./harbour train</pre>
    </div>
    <table v-else-if="runs">
      <thead>
        <tr>
          <th v-for="h in heads" :key="h.label" :class="{ n: h.n }" :aria-sort="h.name ? direction(h.name) : undefined">
            <button v-if="h.name" type="button" :class="{ on: direction(h.name) !== 'none' }" @click="sortBy(h.name)">
              {{ h.label }}
              <span aria-hidden="true">{{ { ascending: '↑', descending: '↓', none: '' }[direction(h.name)] }}</span>
            </button>
            <template v-else>{{ h.label }}</template>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in sorted" :key="r.number">
          <td>
            <RouterLink :to="{ name: 'run', params: { project, number: r.number } }">
              <span class="mono">{{ r.number }}</span>
              &#160;{{ r.title || r.address }}
            </RouterLink>
          </td>
          <td class="sketch"><Sketch :run="r" /></td>
          <td :title="r.verdict?.said">
            <span :class="{ bad: r.verdict?.kind === 'diverged', aside: r.verdict?.aside }">{{ r.verdict?.kind }}</span>
          </td>
          <td class="n">{{ figure(r.best) }}</td>
          <td class="mono small">{{ place(r.best) }}</td>
          <td class="n" :class="{ bad: r.last && !Number.isFinite(toNumber(r.last.value)) }">{{ figure(r.last) }}</td>
          <td v-for="n in differing" :key="n" class="n">{{ n in r.hyper ? hyper(r.hyper[n]) : '' }}</td>
          <td><StateMark :state="r.state" /></td>
          <td>{{ r.who }}</td>
          <td class="small">{{ when(r.started) }}</td>
          <td class="n">{{ took(r.started, r.ended, now) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="more" class="more"><ElButton @click="loadMore">Older runs</ElButton></p>
  </main>
</template>

<style scoped>
.aside {
  text-decoration: line-through;
}
.head {
  display: flex;
  align-items: baseline;
  gap: 18px;
  padding: 14px 24px;
}
.none,
.problem,
.more {
  padding: 0 24px;
}
td:first-child,
th:first-child {
  padding-left: 24px;
}
td:last-child,
th:last-child {
  padding-right: 24px;
}
td:first-child a {
  color: var(--ink);
}
td.sketch {
  padding: 2px 14px 2px 0;
}
th button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
}
th button.on {
  color: var(--ink);
  font-weight: 600;
}
tbody tr:hover td {
  background: var(--accent2);
}
</style>
