<script setup lang="ts">
import { ElOption, ElSegmented, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { client, type SheetDisagreement } from '../api/client'
import { answerOf, truthOf } from './answers'
import Question from '../shared/Question.vue'
import Shown from '../shared/Shown.vue'
import { useQuery } from '../shared/query'

/** Where the answers of two runs to the same examples differ. Nothing where fewer than two have predictions. */
const props = defineProps<{ project: string; runs: number[] }>()
const first = useQuery<number>('one', 0)
const second = useQuery<number>('other', 0)
const kind = useQuery<string>('apart', 'answers')
const got = ref<SheetDisagreement>()
const problem = ref('')
const have = ref<number[]>([])
/** Of more runs than these it is not asked whether they have predictions. */
const most = 12
let asked = 0

watch(
  () => props.runs.join(),
  async () => {
    const found: number[] = []
    for (const number of props.runs.slice(0, most)) {
      const params = { path: { project: props.project, number }, query: { limit: 1 } }
      const list = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets', { params })
      if (list.data?.items?.length) found.push(number)
    }
    have.value = found
  },
  { immediate: true },
)
const a = computed(() => (have.value.includes(first.value) ? first.value : have.value[0]))
const b = computed(() =>
  have.value.includes(second.value) && second.value !== a.value ? second.value : have.value.find((n) => n !== a.value),
)
watch(
  [a, b, kind],
  async () => {
    const mine = ++asked
    if (!a.value || !b.value) return
    const path = { project: props.project, number: a.value, sheet: 0 }
    const query = { run: `${props.project}/${b.value}`, kind: kind.value as 'answers', limit: 12 }
    const answer = await client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}/disagreement', {
      params: { path, query },
    })
    if (mine !== asked) return
    got.value = answer.data
    problem.value = answer.error ? (answer.error as { detail?: string }).detail || 'It cannot be said.' : ''
  },
  { immediate: true },
)
const kinds = computed(() => [
  { value: 'answers', label: 'other answers' },
  { value: 'first', label: `only ${a.value} right` },
  { value: 'second', label: `only ${b.value} right` },
  { value: 'neither', label: 'neither' },
])
const media = (e: NonNullable<SheetDisagreement['items']>[number]) =>
  e.item
    ? `/api/v1/datasets/${e.item.dataset}/snapshots/${e.item.number}/items/${e.item.row}/bytes`
    : e.media?.[0] &&
      `/api/v1/projects/${props.project}/runs/${a.value}/sheets/${got.value?.first.number}/examples/${e.row}/media/${e.media[0]}`
const two = (v: number | string | undefined) => (typeof v === 'number' ? v.toFixed(2) : (v ?? ''))
</script>

<template>
  <Question v-if="a && b" title="Where do they disagree?" :says="got?.says">
    <template #aside>
      <div class="pick">
        <ElSelect :model-value="a" size="small" aria-label="One run" @change="(n: number) => (first = n)">
          <ElOption v-for="n in have" :key="n" :value="n" :label="`${project}/${n}`" />
        </ElSelect>
        <ElSelect :model-value="b" size="small" aria-label="The other run" @change="(n: number) => (second = n)">
          <ElOption v-for="n in have.filter((x) => x !== a)" :key="n" :value="n" :label="`${project}/${n}`" />
        </ElSelect>
      </div>
    </template>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <template v-if="got">
      <table v-if="got.classes?.length">
        <thead>
          <tr>
            <th>class</th>
            <th class="n">both right</th>
            <th class="n">only {{ a }}</th>
            <th class="n">only {{ b }}</th>
            <th class="n">neither</th>
            <th class="n">p</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in got.classes ?? []" :key="c.name">
            <td>{{ c.name }}</td>
            <td class="n">{{ c.both }}</td>
            <td class="n">{{ c.only_first }}</td>
            <td class="n">{{ c.only_second }}</td>
            <td class="n">{{ c.neither }}</td>
            <td class="n" :class="{ strong: c.p < 0.05 }">{{ c.p < 0.001 ? 'below 0.001' : c.p.toPrecision(2) }}</td>
          </tr>
        </tbody>
      </table>
      <ElSegmented v-model="kind" :options="kinds" size="small" class="kinds" aria-label="Which examples" />
      <span class="small">{{ got.count.toLocaleString('en-GB') }} examples</span>
      <ul class="grid">
        <li v-for="e in got.items ?? []" :key="e.row">
          <Shown v-if="media(e)" :url="media(e) ?? ''" :name="e.key" card />
          <div class="key mono small" :title="e.key">{{ e.key.split('/').pop() }}, {{ truthOf(e) }}</div>
          <div class="says">
            <span :class="{ miss: e.right === false }">{{ a }}: {{ answerOf(e) }} {{ two(e.score) }}</span>
            <span :class="{ miss: e.other_right === false }">{{ b }}: {{ e.other }} {{ two(e.other_score) }}</span>
          </div>
        </li>
      </ul>
    </template>
  </Question>
</template>

<style scoped>
.pick {
  display: flex;
  gap: 8px;
}
.strong {
  font-weight: 600;
}
.kinds {
  margin: 12px 12px 8px 0;
}
.grid {
  display: grid;
  grid-template-columns: repeat(6, minmax(0, 1fr));
  gap: 10px;
  list-style: none;
  margin: 0;
  padding: 0;
}
.grid li {
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-radius: 3px;
  overflow: hidden;
  font-size: 12px;
}
.key {
  padding: 4px 8px 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.says {
  padding: 0 8px 6px;
  display: flex;
  flex-direction: column;
}
.miss {
  color: var(--warn);
}
@media (max-width: 700px) {
  .grid {
    grid-template-columns: repeat(2, minmax(0, 1fr));
  }
}
</style>
