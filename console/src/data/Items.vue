<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, nextTick, ref, watch } from 'vue'
import { answer, client, Refused, type Item, type Snapshot } from '../api/client'
import Question from '../shared/Question.vue'
import ItemView from './ItemView.vue'
import { bytes, hyper } from '../shared/format'
import { useQuery } from '../shared/query'

/** The items of a snapshot: filtered by an expression, drawn only where they are in view, one of them shown large. */
const props = defineProps<{ snapshot: Snapshot }>()
const where = useQuery<string>('where', '')
const chosen = useQuery<number>('item', -1)
const typed = ref(where.value)
const items = ref<Item[]>([])
const total = ref<number>()
const next = ref<number>()
const wrong = ref('')
const loading = ref(false)
const top = ref(0)
const section = ref<HTMLElement>()
const hint = '"same-group" in found'
const row = 28
const view = 420
const page = 200
let asked = 0

async function load(from: number) {
  const mine = from === 0 ? ++asked : asked
  loading.value = true
  try {
    const got = await answer(
      client.GET('/api/v1/datasets/{dataset}/snapshots/{number}/items', {
        params: {
          path: { dataset: props.snapshot.dataset, number: props.snapshot.number },
          query: { where: where.value || undefined, from, limit: page, counts: from === 0 },
        },
      }),
    )
    if (mine !== asked) return
    items.value = from === 0 ? (got.items ?? []) : [...items.value, ...(got.items ?? [])]
    next.value = got.next
    if (from === 0) {
      total.value = got.count
      top.value = 0
    }
    wrong.value = ''
  } catch (e) {
    if (mine === asked) wrong.value = e instanceof Refused ? e.message : String(e)
  } finally {
    if (mine === asked) loading.value = false
  }
}
watch(
  [where, () => props.snapshot.address],
  () => {
    typed.value = where.value
    void load(0)
  },
  { immediate: true },
)
function scrolled(e: globalThis.Event) {
  top.value = (e.target as HTMLElement).scrollTop
  const near = top.value + view > items.value.length * row - 600
  if (near && next.value !== undefined && !loading.value) void load(next.value)
}
const first = computed(() => Math.max(0, Math.floor(top.value / row) - 8))
const shown = computed(() => items.value.slice(first.value, first.value + Math.ceil(view / row) + 16))
const own = computed(() => (props.snapshot.columns ?? []).slice(0, 4))
const one = computed(() => items.value.find((i) => i.row === chosen.value))
const says = computed(() => {
  if (total.value === undefined) return ''
  const n = total.value.toLocaleString('en-GB')
  return where.value ? `${n} of ${props.snapshot.items.toLocaleString('en-GB')} items.` : `${n} items.`
})
const link = (format: string) => {
  const q = new URLSearchParams({ format, ...(where.value ? { where: where.value } : {}) })
  return `/api/v1/datasets/${props.snapshot.dataset}/snapshots/${props.snapshot.number}/items/file?${q.toString()}`
}
function step(by: number) {
  const at = items.value.findIndex((i) => i.row === chosen.value)
  const to = items.value[at + by]
  if (to) chosen.value = to.row
}
defineExpose({
  async ask(expression: string) {
    where.value = expression
    await nextTick()
    section.value?.scrollIntoView({ behavior: 'smooth' })
  },
})
</script>

<template>
  <div ref="section">
    <Question title="Which items?" :says="says">
      <template #aside>
        <p class="small">
          Filter by key, split, group, label, size, found and your own columns, such as
          <span class="mono">split == "val" &amp;&amp; label == "tug"</span>
        </p>
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
          aria-label="Filter the items"
          clearable
          @clear="where = ''"
        />
        <ElButton size="small" native-type="submit">Filter</ElButton>
      </form>
      <p v-if="wrong" class="bad" role="alert">{{ wrong }}</p>
      <div class="both">
        <div
          class="list"
          :style="{ height: `${view}px` }"
          tabindex="0"
          role="region"
          aria-label="Items"
          @scroll.passive="scrolled"
        >
          <div :style="{ height: `${items.length * row + row}px`, paddingTop: `${first * row}px` }">
            <table>
              <thead>
                <tr>
                  <th>Key</th>
                  <th>Split</th>
                  <th>Group</th>
                  <th>Label</th>
                  <th class="n">Size</th>
                  <th v-for="c in own" :key="c.name" :class="{ n: c.kind === 'number' }">{{ c.name }}</th>
                  <th>Found</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="i in shown" :key="i.row" :class="{ on: i.row === chosen }">
                  <td class="mono key">
                    <button type="button" class="link" :aria-pressed="i.row === chosen" @click="chosen = i.row">
                      {{ i.key }}
                    </button>
                  </td>
                  <td>{{ i.split }}</td>
                  <td class="mono">{{ i.group }}</td>
                  <td>{{ i.target !== undefined ? i.target : (i.labels ?? []).join(' + ') }}</td>
                  <td class="n">{{ i.size || i.digest ? bytes(i.size) : '' }}</td>
                  <td v-for="c in own" :key="c.name" class="mono" :class="{ n: c.kind === 'number' }">
                    {{ i.own?.[c.name] === undefined ? '' : hyper(i.own[c.name]) }}
                  </td>
                  <td class="small">{{ (i.found ?? []).join(', ') }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </div>
        <ItemView v-if="one" :snapshot="snapshot" :item="one" @step="step" @close="chosen = -1" />
      </div>
      <p v-if="!items.length && !loading && !wrong" class="small">No item is like that.</p>
    </Question>
  </div>
</template>

<style scoped>
.filter {
  display: flex;
  gap: 8px;
  margin-bottom: 10px;
}
.both {
  display: flex;
  gap: 20px;
  align-items: flex-start;
}
.list {
  flex: 1;
  min-width: 0;
  overflow: auto;
  border-bottom: 1px solid var(--rule);
}
.list td {
  height: 28px;
  padding-top: 0;
  padding-bottom: 0;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--paper);
}
.key {
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
}
tr.on td {
  background: var(--accent2);
}
</style>
