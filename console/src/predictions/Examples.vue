<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, Refused, type Example, type SheetDetail } from '../api/client'
import ExampleView from './ExampleView.vue'
import { answerOf, truthOf } from './answers'
import Question from '../shared/Question.vue'
import Shown from '../shared/Shown.vue'
import { useQuery } from '../shared/query'

/** The examples of a sheet: filtered, ordered, shown by what they are; one of them large. All of it is in the link. */
const props = defineProps<{ sheet: SheetDetail; project: string; number: number }>()
const route = useRoute()
const router = useRouter()
const where = useQuery<string>('where', '')
const order = useQuery<string>('order', 'key')
const chosen = useQuery<number>('example', -1)
const typed = ref(where.value)
const items = ref<Example[]>([])
const count = ref(0)
const suspects = ref(0)
const wrong = ref('')
const section = ref<HTMLElement>()
const hint = computed(() => hints[props.sheet.task])
const hints = {
  classes: 'true == "tug" && right == false',
  labels: '"tug" in missed',
  masks: '"hull" in true && error > 0.5',
  text: 'error > 0.1',
  number: 'error > 2',
}
const page = 24
let asked = 0

const orders = computed(() =>
  props.sheet.task !== 'classes'
    ? { key: 'as they came', error: 'largest error first' }
    : props.sheet.scores
      ? {
          key: 'as they came',
          surest: 'surest first',
          doubtful: 'most doubtful first',
          loss: 'largest loss first',
          suspect: 'labels that look wrong',
        }
      : { key: 'as they came' },
)
const path = computed(() => ({ project: props.project, number: props.number, sheet: props.sheet.number }))

async function load(from: number) {
  const mine = from === 0 ? ++asked : asked
  try {
    const got = await answer(
      client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}/examples', {
        params: {
          path: path.value,
          query: {
            where: where.value || undefined,
            order: order.value as 'key',
            from,
            limit: page,
          },
        },
      }),
    )
    if (mine !== asked) return
    items.value = from === 0 ? (got.items ?? []) : [...items.value, ...(got.items ?? [])]
    count.value = got.count
    suspects.value = got.suspects
    wrong.value = ''
  } catch (e) {
    if (mine === asked) wrong.value = e instanceof Refused ? e.message : String(e)
  }
}
watch(
  [where, order, () => props.sheet.number],
  () => {
    typed.value = where.value
    void load(0)
  },
  { immediate: true },
)
const one = computed(() => items.value.find((e) => e.row === chosen.value))
/** What a card shows: the item of the dataset, then the first of the example's own. */
const views = (e: Example) => {
  const out: string[] = []
  if (e.item) out.push(`/api/v1/datasets/${e.item.dataset}/snapshots/${e.item.number}/items/${e.item.row}/bytes`)
  const base = `/api/v1/projects/${props.project}/runs/${props.number}/sheets/${props.sheet.number}/examples/${e.row}/media`
  const masks = props.sheet.task === 'masks' ? ['true', 'predicted'] : []
  const media = (e.media ?? []).filter((m) => !masks.includes(m)).slice(0, 1)
  for (const m of [...media, ...masks.filter((m) => e.media?.includes(m))]) out.push(`${base}/${m}`)
  return out
}
const off = computed(() => props.sheet.task !== 'classes')
const shows = computed(() => items.value.some((e) => views(e).length))
const says = computed(() => {
  const n = count.value.toLocaleString('en-GB')
  const look = suspects.value
    ? ` Of ${suspects.value.toLocaleString('en-GB')} the model surely contradicts the label: either is wrong.`
    : ''
  return `${n} ${count.value === 1 ? 'example' : 'examples'}.${look}`
})
const link = (format: string) => {
  const q = new URLSearchParams({ format, ...(where.value ? { where: where.value } : {}) })
  return `/api/v1/projects/${props.project}/runs/${props.number}/sheets/${props.sheet.number}/file?${q.toString()}`
}
function step(by: number) {
  const to = items.value[items.value.findIndex((e) => e.row === chosen.value) + by]
  if (to) chosen.value = to.row
}
const short = (key: string) => key.split('/').pop() ?? key
const two = (v: number | string | undefined) => (typeof v === 'number' ? v.toFixed(2) : (v ?? ''))
defineExpose({
  async ask(expression: string, by?: string) {
    await router.replace({
      query: { ...route.query, where: expression, ...(by ? { order: by } : {}) },
      hash: route.hash,
    })
    await nextTick()
    section.value?.scrollIntoView({ behavior: 'smooth' })
  },
})
</script>

<template>
  <div id="examples" ref="section">
    <Question title="Which examples?" :says="says">
      <template #aside>
        <p class="small">
          Filter by key, true, predicted, {{ off ? 'error' : 'right, score, loss' }}, group and your own columns, such
          as
          <span class="mono">{{ off ? hint : 'right == false && score > 0.9' }}</span>
        </p>
        <p v-if="sheet.task === 'masks'" class="small">Side by side: its picture, what is true, what was answered.</p>
        <p class="small">
          Export:
          <a v-for="f in ['csv', 'jsonl', 'parquet']" :key="f" :href="link(f)" download>{{ f }}&#160;</a>
        </p>
      </template>
      <form class="filter" @submit.prevent="where = typed">
        <ElInput
          v-model="typed"
          size="small"
          class="mono"
          :placeholder="hint"
          aria-label="Filter the examples"
          clearable
          @clear="where = ''"
        />
        <ElButton size="small" native-type="submit">Filter</ElButton>
        <ElSelect v-model="order" size="small" class="order" aria-label="Order of the examples">
          <ElOption v-for="(name, key) in orders" :key="key" :value="key" :label="name" />
        </ElSelect>
      </form>
      <p v-if="wrong" class="bad" role="alert">{{ wrong }}</p>
      <div class="both">
        <ul v-if="shows" class="grid" :class="{ narrow: one }">
          <li v-for="e in items" :key="e.row">
            <div class="ex" :class="{ on: e.row === chosen }">
              <div :class="{ side: sheet.task === 'masks' }">
                <Shown v-for="url in views(e)" :key="url" :url="url" :name="e.key" card />
              </div>
              <button
                type="button"
                class="key mono"
                :title="e.key"
                :aria-pressed="e.row === chosen"
                @click="chosen = e.row"
              >
                {{ short(e.key) }}
              </button>
              <div class="says">
                <template v-if="sheet.task === 'masks'">
                  <span>{{ truthOf(e) }}</span>
                  <span class="mono" :class="{ miss: e.right === false }">{{ two(e.error) }}</span>
                </template>
                <template v-else>
                  <span>{{ truthOf(e) }}</span>
                  <span :class="{ miss: e.right === false }">
                    {{ answerOf(e) }}
                    <span class="mono">{{ two(e.score) }}</span>
                  </span>
                </template>
              </div>
            </div>
          </li>
        </ul>
        <table v-else>
          <thead>
            <tr>
              <th>Key</th>
              <th>True</th>
              <th>Predicted</th>
              <th v-if="!off" class="n">Score</th>
              <th class="n">{{ off ? 'Error' : 'Loss' }}</th>
              <th>Group</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="e in items" :key="e.row" :class="{ on: e.row === chosen }">
              <td>
                <button type="button" class="link mono" :aria-pressed="e.row === chosen" @click="chosen = e.row">
                  {{ e.key }}
                </button>
              </td>
              <td>{{ truthOf(e) }}</td>
              <td :class="{ miss: e.right === false }">{{ answerOf(e) }}</td>
              <td v-if="!off" class="n">{{ two(e.score) }}</td>
              <td class="n">{{ two(off ? e.error : e.loss) }}</td>
              <td class="mono">{{ e.group }}</td>
            </tr>
          </tbody>
        </table>
        <ExampleView
          v-if="one"
          :project="project"
          :number="number"
          :sheet="sheet.number"
          :row="one.row"
          @step="step"
          @close="chosen = -1"
        />
      </div>
      <p v-if="items.length < count" class="more">
        <ElButton size="small" @click="load(items.length)">
          {{ Math.min(page, count - items.length) }} more of {{ (count - items.length).toLocaleString('en-GB') }}
        </ElButton>
      </p>
      <p v-if="!items.length && !wrong" class="small">No example is like that.</p>
    </Question>
  </div>
</template>

<style scoped>
.filter {
  display: flex;
  gap: 8px;
  margin-bottom: 10px;
}
.order {
  width: 200px;
  flex: none;
}
.both {
  display: flex;
  gap: 20px;
  align-items: flex-start;
}
.grid {
  flex: 1;
  display: grid;
  grid-template-columns: repeat(6, minmax(0, 1fr));
  gap: 10px;
  list-style: none;
  margin: 0;
  padding: 0;
}
.narrow {
  grid-template-columns: repeat(4, minmax(0, 1fr));
}
.ex {
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-radius: 3px;
  overflow: hidden;
  font-size: 12px;
}
.ex.on {
  outline: 2px solid var(--accent);
}
.ex .key {
  display: block;
  width: 100%;
  text-align: left;
  background: none;
  border: 0;
  padding: 4px 8px 2px;
  color: var(--ink2);
  font-size: 12px;
  cursor: pointer;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.side {
  display: flex;
  gap: 3px;
}
.side > * {
  min-width: 0;
  flex: 1;
}
.says {
  padding: 0 8px 6px;
  display: flex;
  justify-content: space-between;
  gap: 6px;
}
.miss {
  color: var(--warn);
}
tr.on td {
  background: var(--accent2);
}
.link {
  font-family: var(--mono);
}
table {
  flex: 1;
}
.more {
  text-align: center;
}
@media (max-width: 700px) {
  .grid {
    grid-template-columns: repeat(2, minmax(0, 1fr));
  }
}
</style>
