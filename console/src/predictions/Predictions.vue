<script setup lang="ts">
import { ElOption, ElSelect } from 'element-plus'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, type Sheet, type SheetDetail } from '../api/client'
import Broken from './Broken.vue'
import ClassTable from './ClassTable.vue'
import Cutoff from './Cutoff.vue'
import Examples from './Examples.vue'
import { ofClass } from './answers'
import FigureTable from './FigureTable.vue'
import Matrix from './Matrix.vue'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import { number as text, toNumber } from '../shared/format'

/** What a model gets wrong, by one of its prediction sheets. */
const props = defineProps<{ project: string; number: number; sheet: number }>()
const route = useRoute()
const router = useRouter()
const one = ref<SheetDetail>()
const sheets = ref<Sheet[]>([])
const examples = useTemplateRef<InstanceType<typeof Examples>>('examples')
const { problem, loader } = useLoading()
const load = loader(async () => {
  const path = { project: props.project, number: props.number, sheet: props.sheet }
  one.value = await answer(client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}', { params: { path } }))
  const list = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/sheets', {
      params: { path: { project: props.project, number: props.number }, query: { limit: 500 } },
    }),
  )
  sheets.value = list.items ?? []
})
watch(() => props.sheet, load)
useLive({ project: props.project, run: String(props.number) }, { hello: load, predictions: load, alarm: load })

const address = computed(() => `${props.project}/${props.number}`)
const link = computed(() => `/${address.value}/predictions/${props.sheet || ''}`)
const label = (s: Sheet) => `${s.split}, epoch ${text(toNumber(s.epoch))}`
const picked = computed({
  get: () => one.value?.number ?? 0,
  set: (n: number) => void router.push({ path: `/${address.value}/predictions/${n}`, query: route.query }),
})
const where = computed(() => (typeof route.query.where === 'string' ? route.query.where : ''))
const ask = (where: string) => {
  const order = one.value?.task === 'classes' ? (one.value.scores ? 'surest' : undefined) : 'error'
  void examples.value?.ask(where, order)
}
const others = computed(() => (one.value?.figures ?? []).filter((f) => f.name !== 'accuracy'))
const classed = computed(() => ['classes', 'labels', 'masks'].includes(one.value?.task ?? ''))
const reliable = computed(() => one.value?.assessed.bins ?? [])
/** With fewer than eight groups the service gives no intervals. */
const few = computed(() => {
  const groups = one.value?.assessed.groups ?? 0
  return groups > 1 && groups < 8 && !one.value?.figures?.some((f) => f.low !== undefined)
})
const W = 200
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!one" :name="`Predictions of ${project}/${number}`" />
    <template v-if="one">
      <div class="page-head">
        <div>
          <div class="mono small">
            <RouterLink :to="`/${address}`">{{ address }}</RouterLink>
            · epoch {{ text(toNumber(one.epoch)) }}
          </div>
          <h1>What does it get wrong?</h1>
        </div>
        <span class="space"></span>
        <span class="small">
          {{ one.data || one.split }}, {{ one.examples.toLocaleString('en-GB') }} examples
          <template v-if="one.assessed.groups">of {{ one.assessed.groups }} groups</template>
          <template v-if="few">(too few for intervals: 8 are needed)</template>
        </span>
        <ElSelect v-model="picked" size="small" class="which" aria-label="Which predictions" filterable>
          <ElOption v-for="s in sheets" :key="s.number" :value="s.number" :label="label(s)" />
        </ElSelect>
      </div>

      <Question title="Is anything broken?" :says="one.alarms?.length ? '' : 'No alarm.'">
        <template #aside>
          <Broken :alarms="one.alarms ?? []" :quiet="one.quiet" :link="link" />
        </template>
        <div v-if="classed && one.labelled" class="both">
          <Matrix :sheet="one" :chosen="where" @choose="ask" />
          <ClassTable :sheet="one" @choose="(c) => examples?.ask(ofClass(one?.task ?? 'classes', c))" />
        </div>
        <p v-else class="small">{{ one.says }}</p>
      </Question>

      <Question v-if="one.pairs?.length" title="Which pair is worst?" :says="one.says">
        <table>
          <thead>
            <tr>
              <th>{{ one.task === 'labels' ? 'missed' : 'true' }}</th>
              <th>{{ one.task === 'labels' ? 'added' : 'answered' }}</th>
              <th class="n">{{ one.task === 'masks' ? 'pixels' : 'examples' }}</th>
              <th class="n">share</th>
              <th v-if="one.task !== 'masks'" class="n">95 %</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in one.pairs.slice(0, 8)" :key="p.says">
              <td>{{ p.true || 'nothing' }}</td>
              <td>
                <button type="button" class="link" @click="ask(p.where)">
                  {{ p.predicted || 'nothing' }}
                </button>
              </td>
              <td class="n">{{ p.count.toLocaleString('en-GB') }}</td>
              <td class="n">{{ p.share.value.toFixed(3) }}</td>
              <td v-if="one.task !== 'masks'" class="n">
                {{ p.share.low?.toFixed(3) }} to {{ p.share.high?.toFixed(3) }}
              </td>
            </tr>
          </tbody>
        </table>
      </Question>

      <Examples ref="examples" :sheet="one" :project="project" :number="number" />

      <Cutoff v-if="one.assessed.scores === 'probabilities'" :sheet="one" :project="project" :number="number" />

      <Question
        title="What does it come to?"
        :says="one.labelled ? 'Computed from the answers, not taken from the program.' : ''"
      >
        <div class="both">
          <FigureTable :figures="others" />
          <figure v-if="reliable.length">
            <svg
              :width="W + 8"
              :height="W + 8"
              viewBox="-4 -4 208 208"
              role="img"
              aria-label="How far scores can be believed"
            >
              <path :d="`M0 ${W}H${W}M0 0V${W}`" stroke="var(--rule2)" fill="none" />
              <path :d="`M0 ${W}L${W} 0`" stroke="var(--rule)" fill="none" />
              <circle
                v-for="b in reliable"
                :key="b.from"
                :cx="b.score * W"
                :cy="W - b.right * W"
                :r="2 + 10 * Math.sqrt(b.count / one.examples)"
                fill="var(--c1)"
                opacity=".6"
              >
                <title>score {{ b.score.toFixed(3) }}, right {{ b.right.toFixed(3) }}, {{ b.count }} answers</title>
              </circle>
            </svg>
            <figcaption class="small">
              Can its scores be believed? Right: score of the answer, up: how often it is right, in
              {{ reliable.length }} of 15 equal bins; on the line they agree.
            </figcaption>
          </figure>
        </div>
      </Question>
    </template>
  </main>
</template>

<style scoped>
.both {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 34px;
  align-items: flex-start;
}
.which {
  width: 180px;
}
figure {
  margin: 0;
  max-width: 260px;
}
</style>
