<script setup lang="ts">
import { ElButton, ElOption, ElSegmented, ElSelect } from 'element-plus'
import { computed, ref, shallowRef, watch } from 'vue'
import { answer, client, type Comparison, type Mattered, type TradeOff, type Words } from '../api/client'
import EvaluatedTable from './EvaluatedTable.vue'
import FactTable from './FactTable.vue'
import Learned from './Learned.vue'
import MarginTable from './MarginTable.vue'
import RankStrip from './RankStrip.vue'
import TradeOffs from './TradeOffs.vue'
import WhatMattered from './WhatMattered.vue'
import Disagree from '../predictions/Disagree.vue'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import Export from '../shared/Export.vue'
import { useLive, type News } from '../shared/live'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'
import { labelOf, learnLabels } from '../shared/columns'

const props = defineProps<{ project: string }>()
const runs = useQuery<string>('runs', '')
const where = useQuery<string>('where', '')
const baseline = useQuery<number>('baseline', 0)
/** Which runs are asked what mattered: those compared, or all of the project. */
const scope = useQuery<string>('weighed', '')
const figure = useQuery<string>('figure', '')
const against = useQuery<string>('against', '')
const comparison = shallowRef<Comparison>()
const mattered = shallowRef<Mattered>()
const trade = shallowRef<TradeOff>()
const words = shallowRef<Words>()
const { problem, loader } = useLoading()
const round = ref(0)

const path = computed(() => ({ project: props.project }))
const query = computed(() => {
  const q: Record<string, string> = {}
  if (runs.value) q.runs = runs.value
  if (where.value) q.where = where.value
  if (baseline.value) q.baseline = String(baseline.value)
  return q
})
/** The runs that are compared, unless the link says otherwise: a project may have a hundred thousand. */
const weighed = computed({
  get: () => scope.value || 'these',
  set: (s: string) => (scope.value = s),
})
const weighedQuery = computed(() => (weighed.value === 'all' ? {} : query.value))

const load = loader(async () => {
  comparison.value = await answer(
    client.GET('/api/v1/projects/{project}/comparison', { params: { path: path.value, query: query.value as never } }),
  )
  round.value++
})
const loadWords = loader(async () => {
  words.value = await answer(client.GET('/api/v1/projects/{project}/words', { params: { path: path.value } }))
  learnLabels(words.value)
})
const loadMattered = loader(async () => {
  const q = { ...weighedQuery.value, figure: figure.value || undefined }
  mattered.value = await answer(
    client.GET('/api/v1/projects/{project}/comparison/influences', { params: { path: path.value, query: q as never } }),
  )
})
const objective = computed(() => comparison.value?.objective.curve ?? 'loss.val')
const figures = computed({
  get: () => (against.value ? against.value.split('|') : ['best', 'pace']),
  set: (list: string[]) => (against.value = list.join('|')),
})
const loadTrade = loader(async () => {
  const q = { ...weighedQuery.value, figures: figures.value.join(',') }
  trade.value = await answer(
    client.GET('/api/v1/projects/{project}/comparison/trade-off', { params: { path: path.value, query: q as never } }),
  )
})
const offered = computed(() => [
  'best',
  ...(words.value?.curves ?? []).filter((c) => c !== objective.value).map((c) => `best(${JSON.stringify(c)})`),
  ...(words.value?.curves ?? []).filter((c) => c !== objective.value).map((c) => `at(${JSON.stringify(c)})`),
  'pace',
  'took',
  'size',
  'parameters',
])
watch(query, load)
watch([weighedQuery, figure, () => !!comparison.value], () => comparison.value && void loadMattered())
watch([weighedQuery, against, () => !!comparison.value], () => comparison.value && void loadTrade())

/** Only runs that are compared, and still run, cost anything. */
const concerns = (news: News) => !!news.run && (comparison.value?.runs ?? []).some((r) => r.number === news.run)
let timer = 0
function later(news: News) {
  if (!concerns(news) || timer) return
  timer = window.setTimeout(() => {
    timer = 0
    void load()
  }, 1500)
}
useLive(
  { project: props.project },
  {
    hello: async () => {
      await Promise.all([load(), loadWords(), loadProject()])
    },
    run: later,
    summary: later,
  },
)

const forms = { html: 'One HTML page', markdown: 'Markdown with charts', csv: 'CSV, a row per run' }
const documents = computed(() =>
  Object.entries(forms).map(([format, label]) => {
    const q = new URLSearchParams({ ...query.value, format })
    return { label, href: `/api/v1/projects/${props.project}/comparison/document?${q.toString()}` }
  }),
)
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(location.href)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
/** The baseline that the project names. */
const projects = ref(0)
const loadProject = loader(async () => {
  projects.value =
    (await answer(client.GET('/api/v1/projects/{project}', { params: { path: path.value } }))).baseline ?? 0
})
const keepBaseline = loader(async () => {
  const body = { run: baseline.value }
  await answer(client.PUT('/api/v1/projects/{project}/baseline', { params: { path: path.value }, body }))
  await loadProject()
})
const weighedSays = computed(() => {
  const m = mattered.value
  if (!m) return ''
  let text = `${m.runs} runs with ${m.figure}`
  if (m.sampled) text += `, a sample spread evenly over ${m.sampled.toLocaleString('en')}`
  if (m.left) text += `, ${m.left} without it left out`
  if (m.explained === 'NaN') return text + '.'
  const share = Math.max(0, Math.round(100 * Number(m.explained)))
  return `${text}; a random forest predicts ${share} % of the variance of runs it has not seen. Importance is how much more it is wrong when the values are shuffled.`
})
const curves = computed(() => words.value?.curves ?? [objective.value])
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!comparison" :name="`Runs of ${project} compared`" />
    <template v-if="comparison">
      <div class="page-head">
        <div>
          <div class="small">
            {{ comparison.groups?.length }} {{ comparison.groups?.length === 1 ? 'setting' : 'settings' }},
            {{ comparison.runs?.length }} runs; {{ comparison.objective.direction }}
            <span class="mono">{{ objective }}</span>
            is better
            <template v-if="comparison.left">; {{ comparison.left }} more are chosen, these are the best</template>
          </div>
          <h1>{{ comparison.runs?.length }} runs compared</h1>
        </div>
        <span class="space"></span>
        <label class="small">
          Baseline
          <ElSelect
            :model-value="comparison.baseline ?? 0"
            size="small"
            class="baseline"
            aria-label="Baseline"
            @change="(n: number) => (baseline = n)"
          >
            <ElOption :value="0" label="the project's" />
            <ElOption
              v-if="comparison.baseline && !comparison.runs?.some((r) => r.number === comparison!.baseline)"
              :value="comparison.baseline"
              :label="`${project}/${comparison.baseline}`"
            />
            <ElOption
              v-for="r in comparison.runs"
              :key="r.number"
              :value="r.number"
              :label="`${r.number} ${r.title}`"
            />
          </ElSelect>
        </label>
        <ElButton v-if="baseline && baseline !== projects" size="small" @click="keepBaseline">
          Keep for the project
        </ElButton>
        <Export :files="documents" />
        <ElButton size="small" @click="copy">{{ copied ? 'Copied' : 'Copy link' }}</ElButton>
      </div>
      <div v-if="!comparison.runs?.length" class="page">
        <p>No run is like that. Put runs into the tray on the page of runs, then compare them; or:</p>
        <pre class="command">kembrel compare {{ project }}/1 {{ project }}/2</pre>
      </div>
      <template v-else>
        <Question title="Which is best?" :says="comparison.answers.best">
          <template #aside>
            <p v-if="comparison.answers.apart" class="small">{{ comparison.answers.apart }}</p>
          </template>
          <RankStrip
            :groups="comparison.groups ?? []"
            :project="project"
            :figure="objective"
            :baseline="comparison.baseline ?? 0"
          />
          <MarginTable :groups="comparison.groups ?? []" />
        </Question>
        <Question
          v-if="comparison.evaluated?.length"
          title="What did evaluations find?"
          :says="comparison.answers.evaluated"
        >
          <EvaluatedTable :comparison="comparison" />
        </Question>
        <Question title="What differed?" :says="comparison.answers.differed">
          <FactTable :comparison="comparison" />
        </Question>
        <Question title="How did they learn?" :says="comparison.answers.learned">
          <Learned :project="project" :comparison="comparison" :query="query" :curves="curves" :round="round" />
        </Question>
        <Question title="What mattered?" :says="mattered?.says">
          <template #aside>
            <ElSegmented
              v-model="weighed"
              size="small"
              :options="[
                { label: 'these runs', value: 'these' },
                { label: 'the project', value: 'all' },
              ]"
              aria-label="Runs asked"
            />
            <ElSelect
              :model-value="figure || 'best'"
              size="small"
              class="figure"
              aria-label="Figure"
              @change="(f: string) => (figure = f === 'best' ? '' : f)"
            >
              <ElOption
                v-for="f in offered"
                :key="f"
                :value="f"
                :label="f === 'best' ? `best ${objective}` : labelOf(f)"
              />
            </ElSelect>
            <p v-if="mattered" class="small">{{ weighedSays }}</p>
          </template>
          <WhatMattered v-if="mattered" :project="project" :mattered="mattered" />
        </Question>
        <Question title="What are the trade-offs?" :says="trade?.says">
          <TradeOffs
            v-if="trade"
            :project="project"
            :trade="trade"
            :offered="offered"
            :figures="figures"
            @change="(list: string[]) => (figures = list)"
          />
        </Question>
        <Disagree :project="project" :runs="(comparison.runs ?? []).map((r) => r.number)" />
      </template>
    </template>
  </main>
</template>

<style scoped>
.baseline {
  width: 170px;
}
.figure {
  width: 100%;
  margin-top: 8px;
}
.page-head {
  gap: 14px;
}
</style>
