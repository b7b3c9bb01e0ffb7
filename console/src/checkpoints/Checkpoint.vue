<script setup lang="ts">
import { ElButton, ElSelectV2 } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type Checkpoint, type Tensors, type Weights } from '../api/client'
import Found from '../evaluations/Found.vue'
import LineageLink from '../shared/LineageLink.vue'
import PartFiles from '../shared/PartFiles.vue'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import Wrong from '../predictions/Wrong.vue'
import WeightBands from './WeightBands.vue'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'
import { bytes, linkTo, number as text, when } from '../shared/format'

const props = defineProps<{ project: string; number: number; at: string }>()
const checkpoint = ref<Checkpoint>()
const tensors = ref<Tensors>()
const weights = ref<Weights>()
const { problem, loader } = useLoading()
const layer = useQuery<string>('layer', '')
/** How many tensors the table shows: a large model has tens of thousands. */
const shown = ref(40)
const step = 400

const run = computed(() => `${props.project}/${props.number}`)
const path = computed(() => ({ project: props.project, number: props.number, at: props.at }))
/** Longer names are shown cut, and not followed over the checkpoints. */
const longest = 1000
/** The largest tensor, unless the link says which. */
const chosen = computed(() => {
  const list = (tensors.value?.tensors ?? []).filter((t) => t.name.length <= longest)
  if (list.some((t) => t.name === layer.value)) return layer.value
  return list.reduce((a, b) => (b.parameters > (a?.parameters ?? 0) ? b : a), list[0])?.name ?? ''
})

const load = loader(async () => {
  checkpoint.value = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/checkpoints/{at}', { params: { path: path.value } }),
  )
  tensors.value = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/checkpoints/{at}/tensors', { params: { path: path.value } }),
  )
  await readWeights()
})
async function readWeights() {
  weights.value = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/weights', {
      params: { path: { project: props.project, number: props.number }, query: { name: chosen.value } },
    }),
  )
}
watch(() => props.at, load)
watch(chosen, (_, before) => {
  if (before) void readWeights()
})
/** Rises when something was found of a checkpoint. */
const found = ref(0)
const again = async () => {
  found.value++
  await load()
}
useLive(
  { project: props.project, run: String(props.number) },
  { hello: load, checkpoint: again, predictions: again, summary: load },
)

const rows = computed(() => (tensors.value?.tensors ?? []).slice(0, shown.value))
const names = computed(() =>
  (tensors.value?.tensors ?? [])
    .filter((t) => t.name.length <= longest)
    .map((t) => ({ value: t.name, label: brief(t.name) })),
)
const brief = (name: string) => (name.length > 300 ? name.slice(0, 300) + '…' : name)
/** The parts of a name that the row above has too are left out: the tree of layers. */
const branch = (i: number) => {
  const parts = rows.value[i].name.split('.')
  const above = i > 0 ? rows.value[i - 1].name.split('.') : []
  let same = 0
  while (same < parts.length - 1 && parts[same] === above[same]) same++
  return { depth: same, rest: parts.slice(same).join('.') }
}
const shape = (s: number[] | null) => (s?.length ? s.join(' × ') : 'scalar')
const href = (file: string) =>
  `/api/v1/projects/${props.project}/runs/${props.number}/checkpoints/${props.at}/file?path=${encodeURIComponent(file)}`
const goodFor = computed(() => {
  const c = checkpoint.value
  if (!c) return ''
  if (c.dropped)
    return `Its bytes were dropped ${when(c.dropped)}, ${c.why_deleted}. What is left: its figures, the digests of its files, and how its weights lay.`
  const said = {
    resume: 'To resume and to use.',
    use: 'To use; not to resume.',
    'weights only': 'Its weights alone; not to resume.',
    nothing: 'It has no weights.',
  }[c.usable_for]
  return (
    said +
    (c.delete_at ? ` Its bytes are dropped ${when(c.delete_at)}, ${c.why_deleted}, unless it is brought back.` : '') +
    (c.lacks?.length ? ` To resume it lacks ${c.lacks.join(', ')}.` : '') +
    (c.replaced ? ' A later leg began before it, so it is not of the run’s present course.' : '')
  )
})
const verified = computed(() => {
  const v = checkpoint.value?.verified?.[0]
  return v ? v.says[0].toUpperCase() + v.says.slice(1) + '.' : 'Nobody has evaluated it after a restore yet.'
})
const figures = computed(() => Object.entries(checkpoint.value?.figures ?? {}).sort(([a], [b]) => a.localeCompare(b)))
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!checkpoint" :name="`${project}/${number}@${at}`" />
    <template v-if="checkpoint">
      <div class="page-head">
        <div>
          <div class="mono small">
            <RouterLink :to="linkTo(run)">{{ run }}</RouterLink>
          </div>
          <h1>{{ checkpoint.address }}</h1>
        </div>
        <div class="now">
          <span v-if="checkpoint.best" class="accent">best ·&#160;</span>
          <span v-if="checkpoint.last" class="small">last ·&#160;</span>
          <span v-if="checkpoint.pinned" class="small">pinned ·&#160;</span>
          <span v-if="checkpoint.dropped" class="bad">dropped ·&#160;</span>
          <span v-else-if="checkpoint.delete_at" class="warn">to be deleted ·&#160;</span>
          <span class="small">{{ checkpoint.why ? `saved: ${checkpoint.why}` : 'saved' }}</span>
        </div>
        <span class="space"></span>
        <div>
          <div class="small">step</div>
          <div class="mono figure">{{ text(checkpoint.step) }}</div>
        </div>
        <div>
          <div class="small">size</div>
          <div class="mono figure">{{ bytes(checkpoint.size) }}</div>
        </div>
        <div>
          <div class="small">saved</div>
          <div class="figure">{{ when(checkpoint.saved) }}, leg {{ checkpoint.leg }}</div>
        </div>
      </div>

      <Question title="What is it good for?" :says="goodFor">
        <template #aside><LineageLink :of="checkpoint.address" /></template>
        <PartFiles :files="checkpoint.files ?? []" :href="checkpoint.dropped ? undefined : href" />
        <p v-if="!checkpoint.dropped" class="small">
          <code class="mono">kembrel restore {{ checkpoint.address }} --into model</code>
          <template v-if="checkpoint.usable_for === 'resume'">
            <br />
            <code class="mono">kembrel branch {{ checkpoint.address }} --hyper NAME=VALUE</code>
          </template>
          <br />
          <code class="mono">kembrel catalogue add {{ checkpoint.address }} --model MODEL</code>
        </p>
      </Question>

      <Question title="Is it what was recorded?" :says="verified">
        <table>
          <thead>
            <tr>
              <th>Figure</th>
              <th class="n">Recorded</th>
              <th v-for="v in checkpoint.verified" :key="v.at" class="n">{{ when(v.at) }} on {{ v.host }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="[name, value] in figures" :key="name">
              <td class="mono">{{ name }}</td>
              <td class="n">{{ text(value) }}</td>
              <td
                v-for="v in checkpoint.verified"
                :key="v.at"
                class="n"
                :class="{ bad: v.figures?.some((f) => f.curve === name && !f.same) }"
              >
                {{
                  v.figures
                    ?.filter((f) => f.curve === name)
                    .map((f) => (f.same ? '= ' : '≠ ') + text(f.found))
                    .join('')
                }}
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="!checkpoint.verified?.length" class="small">
          <code class="mono">kembrel verify {{ checkpoint.address }} -- COMMAND</code>
          restores it, runs your evaluation, and compares.
        </p>
      </Question>

      <Wrong :project="project" :number="number" :step="checkpoint.step" :mark="found" />

      <Found :project="project" :number="number" :at="at" :mark="found" />

      <Question
        v-if="tensors"
        title="How are its weights distributed?"
        :says="`${tensors.says} ${weights?.says ?? ''}`"
      >
        <template v-if="chosen" #aside>
          <label class="small">
            Over the checkpoints
            <ElSelectV2
              :model-value="chosen"
              :options="names"
              size="small"
              filterable
              aria-label="Tensor"
              @update:model-value="layer = $event"
            />
          </label>
        </template>
        <WeightBands v-if="weights?.checkpoints && chosen" :name="chosen" :points="weights.checkpoints" />
        <table v-if="tensors.tensors?.length" class="tensors">
          <thead>
            <tr>
              <th>Tensor</th>
              <th>Dtype</th>
              <th>Shape</th>
              <th class="n">Parameters</th>
              <th class="n">Mean</th>
              <th class="n">Deviation</th>
              <th class="n">Lowest</th>
              <th class="n">Highest</th>
              <th class="n">Not finite</th>
              <th><span class="visually-hidden">What is odd</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(t, i) in rows" :key="t.name">
              <td class="mono" :style="{ paddingLeft: 14 * branch(i).depth + 'px' }" :title="brief(t.name)">
                <button class="plain" :class="{ accent: t.name === chosen }" @click="layer = t.name">
                  {{ brief(branch(i).rest) }}
                </button>
              </td>
              <td class="mono small">{{ t.dtype }}</td>
              <td class="mono">{{ shape(t.shape) }}</td>
              <td class="n">{{ t.parameters.toLocaleString('en-GB') }}</td>
              <td class="n">{{ text(t.mean) }}</td>
              <td class="n">{{ text(t.deviation) }}</td>
              <td class="n">{{ text(t.min) }}</td>
              <td class="n">{{ text(t.max) }}</td>
              <td class="n" :class="{ bad: (t.nan ?? 0) + (t.infinite ?? 0) > 0 }">
                {{ (t.nan ?? 0) + (t.infinite ?? 0) }}
              </td>
              <td class="bad">{{ t.odd }}</td>
            </tr>
          </tbody>
          <tfoot>
            <tr>
              <td colspan="3">All</td>
              <td class="n">{{ tensors.parameters.toLocaleString('en-GB') }}</td>
              <td colspan="6"></td>
            </tr>
          </tfoot>
        </table>
        <ElButton v-if="rows.length < (tensors.tensors?.length ?? 0)" size="small" @click="shown += step">
          {{ Math.min(step, tensors.tensors!.length - rows.length) }} more of
          {{ tensors.tensors!.length.toLocaleString('en-GB') }}
        </ElButton>
      </Question>
    </template>
  </main>
</template>

<style scoped>
.tensors {
  margin-top: 16px;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
  text-align: left;
  max-width: 420px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.plain.accent {
  color: var(--accent);
}
</style>
