<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type ExampleDetail } from '../api/client'
import { answerOf, apart, truthOf } from './answers'
import Shown from '../shared/Shown.vue'
import { hyper, number as text, toNumber } from '../shared/format'

/** One example large: what it is, its scores, and how the answer to it changed over the epochs. */
const props = defineProps<{ project: string; number: number; sheet: number; row: number }>()
const emit = defineEmits<{ step: [by: number]; close: [] }>()
const one = ref<ExampleDetail>()
const problem = ref('')
watch(
  () => [props.sheet, props.row],
  async () => {
    const path = { project: props.project, number: props.number, sheet: props.sheet, row: props.row }
    try {
      const got = await answer(
        client.GET('/api/v1/projects/{project}/runs/{number}/sheets/{sheet}/examples/{row}', { params: { path } }),
      )
      if (path.row === props.row) one.value = got
      problem.value = ''
    } catch (e) {
      problem.value = (e as Error).message
    }
  },
  { immediate: true },
)
/** What the reader said of its label; a wrong one may be given the right class. */
const mine = computed(() => one.value?.marks?.find((m) => m.own))
const classes = computed(() => (one.value?.sheet.classes ?? []).filter((c) => c !== one.value?.true))
async function say(mark: 'right' | 'wrong' | 'unclear', label = '') {
  const e = one.value
  if (!e) return
  const params = { path: { project: props.project, number: props.number, sheet: e.sheet.number, row: e.row } }
  const url = '/api/v1/projects/{project}/runs/{number}/sheets/{sheet}/examples/{row}/mark'
  try {
    const back = mine.value?.mark === mark && mine.value.label === (label || undefined)
    const got = back
      ? await answer(client.DELETE(url, { params }))
      : await answer(client.PUT(url, { params, body: { mark, label: label || undefined } }))
    if (one.value?.row === e.row) one.value = { ...one.value, marks: got.marks }
    problem.value = ''
  } catch (x) {
    problem.value = (x as Error).message
  }
}
const shown = computed(() => {
  const e = one.value
  if (!e) return []
  const base = `/api/v1/projects/${props.project}/runs/${props.number}/sheets/${props.sheet}/examples/${e.row}/media`
  const list = (e.media ?? []).map((name) => ({ name, url: `${base}/${name}` }))
  if (e.item)
    list.push({
      name: 'item',
      url: `/api/v1/datasets/${e.item.dataset}/snapshots/${e.item.number}/items/${e.item.row}/bytes`,
    })
  return list
})
const scores = computed(() =>
  (one.value?.scores ?? [])
    .map((v, i) => ({ name: one.value?.sheet.classes?.[i] ?? String(i), score: toNumber(v) }))
    .sort((a, b) => b.score - a.score)
    .slice(0, 12),
)
/** The two texts, each with what is otherwise in its middle. */
const prose = computed(() => {
  const e = one.value
  if (!e || e.sheet.task !== 'text') return undefined
  return [apart(e.true ?? '', e.predicted ?? ''), apart(e.predicted ?? '', e.true ?? '')]
})
/** The labels, each with whether it is both true and answered. */
const labels = computed(() => {
  const e = one.value
  if (!e || (e.sheet.task !== 'labels' && e.sheet.task !== 'masks')) return undefined
  const known = e.right !== undefined
  const both = new Set([...(e.labels ?? []), ...(e.answered ?? [])])
  return [...both].map((name) => {
    const [is, said] = [e.labels?.includes(name), e.answered?.includes(name)]
    return { name, how: !known ? 'answered' : is && said ? 'both' : is ? 'missed' : 'added' }
  })
})
const what = computed(() => (off.value ? 'Error' : `Score of ${one.value?.true ?? 'the true class'}`))
const highest = computed(() => Math.max(1e-9, ...scores.value.map((s) => s.score)))
const last = computed(() => Math.max(1, (one.value?.over?.length ?? 1) - 1))
/** The score of the true class, or the error, over the epochs. */
const off = computed(() => (one.value?.over ?? []).some((o) => o.error !== undefined))
const trail = computed(() =>
  (one.value?.over ?? [])
    .map((o, i) => [i, off.value ? Math.min(1, toNumber(o.error)) : toNumber(o.of_true)] as const)
    .filter(([, v]) => Number.isFinite(v))
    .map(([i, v], n) => `${n ? 'L' : 'M'}${4 + (i * 284) / last.value} ${44 - 40 * v}`)
    .join(''),
)
const changes = computed(() => {
  const over = one.value?.over ?? []
  return over
    .filter((o, i) => i === 0 || o.predicted !== over[i - 1]?.predicted)
    .slice(-8)
    .map((o) => `${o.predicted || 'nothing'} from epoch ${text(toNumber(o.epoch))}`)
})
</script>

<template>
  <section class="one" :aria-label="one?.key ?? 'Example'">
    <div class="head">
      <ElButton size="small" aria-label="The one before" @click="emit('step', -1)">‹</ElButton>
      <ElButton size="small" aria-label="The next one" @click="emit('step', 1)">›</ElButton>
      <span class="space"></span>
      <ElButton size="small" text @click="emit('close')">Close</ElButton>
    </div>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <template v-if="one">
      <p class="mono key">{{ one.key }}</p>
      <template v-for="s in shown" :key="s.url">
        <p v-if="shown.length > 1" class="small name">{{ s.name }}</p>
        <Shown :url="s.url" :name="`${one.key}, ${s.name}`" />
      </template>
      <p v-if="one.text" class="text">{{ one.text }}</p>
      <dl v-if="prose" class="texts">
        <dt>true</dt>
        <dd>
          <template v-for="(part, i) in prose[0]" :key="i">
            <mark v-if="i === 1 && part">{{ part }}</mark>
            <template v-else>{{ part }}</template>
          </template>
        </dd>
        <dt>answered</dt>
        <dd>
          <template v-for="(part, i) in prose[1]" :key="i">
            <mark v-if="i === 1 && part">{{ part }}</mark>
            <template v-else>{{ part }}</template>
          </template>
        </dd>
      </dl>
      <ul v-else-if="labels" class="labels">
        <li v-for="l in labels" :key="l.name" :class="{ miss: l.how !== 'both' }">
          {{ l.name }}
          <span v-if="l.how !== 'both'" class="small">{{ l.how }}</span>
        </li>
        <li v-if="!labels.length" class="small">none, as answered</li>
      </ul>
      <p v-else>
        {{ truthOf(one) || 'not labelled' }}, answered
        <b :class="{ miss: one.right === false }">{{ answerOf(one) || 'nothing' }}</b>
      </p>
      <p v-if="one.error !== undefined || one.group" class="small">
        <template v-if="one.error !== undefined">error {{ text(toNumber(one.error)) }}</template>
        {{ one.group ? `of ${one.group}` : '' }}
      </p>
      <p v-if="one.suspect" class="small warn">
        The model surely contradicts this label: either is wrong, and a person says which.
      </p>
      <div
        v-if="one.right !== undefined || one.target !== undefined"
        class="marks"
        role="group"
        aria-label="What is its label?"
      >
        <span class="small">Its label is</span>
        <ElButton
          v-for="m in ['right', 'wrong', 'unclear'] as const"
          :key="m"
          size="small"
          :type="mine?.mark === m ? 'primary' : undefined"
          :aria-pressed="mine?.mark === m"
          @click="say(m)"
        >
          {{ m }}
        </ElButton>
        <ElSelect
          v-if="mine?.mark === 'wrong' && classes.length"
          :model-value="mine.label ?? ''"
          size="small"
          class="should"
          placeholder="it should be"
          aria-label="What it should be"
          @change="(c: string) => say('wrong', c)"
        >
          <ElOption v-for="c in classes" :key="c" :value="c" />
        </ElSelect>
      </div>
      <p v-for="m in one.marks?.filter((x) => !x.own) ?? []" :key="m.who" class="small">
        {{ m.who }}: {{ m.mark }}
        <template v-if="m.label">, it should be {{ m.label }}</template>
      </p>
      <table v-if="scores.length">
        <thead>
          <tr>
            <th>class</th>
            <th class="n">score</th>
            <th><span class="hidden">as a bar</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in scores" :key="s.name">
            <td>{{ s.name }}</td>
            <td class="n">{{ s.score.toFixed(3) }}</td>
            <td>
              <svg width="100" height="10" aria-hidden="true">
                <rect
                  :width="Math.max(0, (100 * s.score) / highest)"
                  height="8"
                  y="1"
                  :fill="s.name === one.true ? 'var(--accent)' : 'var(--c2)'"
                  opacity=".6"
                />
              </svg>
            </td>
          </tr>
        </tbody>
      </table>
      <template v-if="(one.over?.length ?? 0) > 1">
        <p class="small heading">Over the epochs</p>
        <svg v-if="trail" width="292" height="48" role="img" :aria-label="`${what} over the epochs`">
          <path d="M4 4H288M4 44H288" stroke="var(--rule)" />
          <path :d="trail" fill="none" stroke="var(--c1)" stroke-width="1.5" />
        </svg>
        <p v-if="trail" class="small">{{ what }}, 0 at the foot, 1 at the top.</p>
        <p class="small">{{ changes.join(', ') }}.</p>
      </template>
      <dl>
        <div v-for="(v, name) in one.own ?? {}" :key="name">
          <dt>{{ name }}</dt>
          <dd class="mono">{{ hyper(v) }}</dd>
        </div>
      </dl>
    </template>
  </section>
</template>

<style scoped>
.one {
  width: 300px;
  flex: none;
}
.head {
  display: flex;
}
.key {
  margin: 8px 0;
  overflow-wrap: anywhere;
}
.texts dd {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
mark {
  background: color-mix(in srgb, var(--warn) 22%, transparent);
  color: inherit;
}
.labels {
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
  padding: 0;
  margin: 6px 0;
}
.marks {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  align-items: center;
  margin: 6px 0;
}
.marks .el-button {
  margin: 0;
}
.should {
  width: 140px;
}
.miss {
  color: var(--warn);
}
.name {
  margin: 6px 0 2px;
}
.heading {
  margin: 10px 0 2px;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
}
dl {
  margin: 8px 0;
  font-size: 12px;
}
dl div {
  display: flex;
  gap: 10px;
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
}
dt {
  color: var(--ink2);
  width: 64px;
  flex: none;
}
dd {
  margin: 0;
}
</style>
