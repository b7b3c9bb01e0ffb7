<script setup lang="ts">
import { ElButton, ElCheckbox, ElOption, ElSelect } from 'element-plus'
import { computed, onScopeDispose, ref, watch } from 'vue'
import type { Flag } from '../chart/marks'
import { answer, client, type Checkpoint, type Output, type RunDetail } from '../api/client'
import CheckpointTable from '../checkpoints/CheckpointTable.vue'
import CurveControls from '../chart/CurveControls.vue'
import CurveChart from '../chart/CurveChart.vue'
import Found from '../evaluations/Found.vue'
import NextSteps from './NextSteps.vue'
import Written from '../files/Written.vue'
import LegAxis from './LegAxis.vue'
import LineageLink from '../shared/LineageLink.vue'
import PageProblem from '../shared/PageProblem.vue'
import Question from '../shared/Question.vue'
import StateMark from '../shared/StateMark.vue'
import StopRule from '../shared/StopRule.vue'
import VerdictActs from './VerdictActs.vue'
import WentIn from './WentIn.vue'
import Wrong from '../predictions/Wrong.vue'
import WhatHappened from './WhatHappened.vue'
import { asParent, families, useCurves, type Axis, type Drawn, type Look } from '../chart/curves'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import { useLook } from '../chart/look'
import { useQuery } from '../shared/query'
import { duration, figure, number as text, linkTo, place, toNumber, tookRun, when } from '../shared/format'

const props = defineProps<{ project: string; number: number }>()
const path = { project: props.project, number: props.number }
const run = ref<RunDetail>()
const checkpoints = ref<Checkpoint[]>([])
const output = ref<Output[]>([])
/** Rises when predictions come, and when a checkpoint has been evaluated. */
const answers = ref(0)
/** Rises when files come or go. */
const files = ref(0)
const { problem, loader } = useLoading()
const { curves, read } = useCurves(props.project, props.number)
const machine = useCurves(props.project, props.number)

const { axis, scale, smooth, kind, hide, zoom, range, setZoom } = useLook()
const shown = useQuery<string>('shown', '')
const loadRun = loader(async () => {
  run.value = await answer(client.GET('/api/v1/projects/{project}/runs/{number}', { params: { path } }))
})
/** How many pixels a chart has; the service folds to so many. */
const pixels = 700
/** A chart of more curves has the whole width, so that each has its label. */
const manyCurves = 8
/** Charts shown unless the link says which: more would make the page slow to read. */
const chartsAtFirst = 8

const objective = computed(() => run.value?.objective.curve ?? '')
const names = computed(() => (run.value?.curves ?? []).map((c) => c.name))
const all = computed(() =>
  families(
    names.value.filter((n) => !n.startsWith('host.')),
    objective.value,
  ),
)
const wanted = computed(() => {
  if (!shown.value) return all.value.slice(0, chartsAtFirst)
  const picked = shown.value.split(',')
  return all.value.filter((f) => picked.includes(f.family))
})
const picked = computed({
  get: () => wanted.value.map((f) => f.family),
  set: (list: string[]) => (shown.value = list.join(',')),
})
/** Epochs are the axis unless the run has none. */
const axisUsed = computed<Axis>(() => (axis.value === 'epoch' && run.value?.epoch === 'NaN' ? 'step' : axis.value))

const look = computed<Look>(() => ({
  names: wanted.value.flatMap((f) => f.names.slice(0, 30)),
  axis: axisUsed.value,
  from: range.value.from,
  to: range.value.to,
  pixels,
  smooth: smooth.value,
  median: kind.value === 'median',
  started: Date.parse(run.value?.started ?? ''),
}))
const paused = ref(false)
const behind = ref({ epoch: 0, at: 0 })
const lastRead = ref(0)
const loadCurves = loader(async () => {
  if (paused.value || !run.value) return
  // Ten batches a second are no reason to draw ten times a second.
  const rest = lastRead.value + 200 - Date.now()
  if (rest > 0) await new Promise((done) => setTimeout(done, rest))
  lastRead.value = Date.now()
  if (await read(look.value, () => !paused.value)) behind.value = { epoch: toNumber(run.value.epoch), at: Date.now() }
})
/** A branch is drawn as the continuation of its parent. */
const origin = computed(() => {
  const o = run.value?.origin
  const m = o?.kind === 'branch' ? /^([a-z0-9-]+)\/(\d+)@/.exec(o.from) : null
  return o && m
    ? { project: m[1], number: Number(m[2]), run: `${m[1]}/${m[2]}`, step: o.step ?? 0, epoch: toNumber(o.epoch) }
    : null
})
const parentCurves = ref<Drawn[]>([])
const loadParent = loader(async () => {
  const o = origin.value
  const upTo = axisUsed.value === 'step' ? o?.step : axisUsed.value === 'epoch' ? o?.epoch : undefined
  if (!o || upTo === undefined || Number.isNaN(upTo)) {
    parentCurves.value = []
    return
  }
  const parent = useCurves(o.project, o.number)
  await parent.read({ ...look.value, to: upTo })
  parentCurves.value = asParent(parent.curves.value, o.run)
})
const behindText = computed(() => {
  const epochs = toNumber(run.value?.epoch) - behind.value.epoch
  const span = duration(now.value - behind.value.at)
  return `paused; the view is ${span}${epochs > 0 ? ` and ${text(Math.round(epochs * 100) / 100)} epochs` : ''} behind`
})
const machineNames = computed(() => names.value.filter((n) => n.startsWith('host.') && n !== 'host.memory.share'))
const loadMachine = loader(async () => {
  if (run.value)
    await machine.read({ ...look.value, names: machineNames.value, axis: 'since', from: null, to: null, smooth: 0 })
})
const machineCharts = computed(() =>
  families(machineNames.value, '').map((f) => ({
    ...f,
    curves: machine.curves.value.filter((c) => f.names.includes(c.name)),
  })),
)
const charts = computed(() =>
  wanted.value
    .map((f) => ({ ...f, curves: curves.value.filter((c) => f.names.includes(c.name)) }))
    .filter((f) => f.curves.length)
    .map((f) => ({
      ...f,
      curves: [...parentCurves.value.filter((c) => f.names.some((n) => c.name.startsWith(n + ' of '))), ...f.curves],
    })),
)
const loadCheckpoints = loader(async () => {
  const page = await answer(client.GET('/api/v1/projects/{project}/runs/{number}/checkpoints', { params: { path } }))
  checkpoints.value = page.items ?? []
})
const loadOutput = loader(async () => {
  for (;;) {
    const after = output.value.length ? output.value[output.value.length - 1].id : 0
    const query = { after }
    const page = await answer(
      client.GET('/api/v1/projects/{project}/runs/{number}/output', { params: { path, query } }),
    )
    if (!page.items?.length) return
    output.value = [...output.value, ...page.items]
  }
})

const { connected } = useLive(
  { project: props.project, run: String(props.number) },
  {
    hello: async () => {
      await loadRun()
      await Promise.all([loadCurves(), loadMachine(), loadCheckpoints(), loadOutput()])
    },
    run: loadRun,
    leg: loadRun,
    predictions: async () => {
      answers.value++
      await Promise.resolve()
    },
    file: async () => {
      files.value++
      await Promise.resolve()
    },
    alarm: async () => {
      answers.value++
      await loadRun()
    },
    summary: async () => {
      await Promise.all([loadRun(), loadCheckpoints(), loadMachine()])
    },
    checkpoint: async () => {
      answers.value++
      await Promise.all([loadRun(), loadCheckpoints()])
    },
    readings: loadCurves,
    output: loadOutput,
  },
)
watch([look, paused], loadCurves)
watch([look, origin], loadParent)

const now = ref(Date.now())
const clock = setInterval(() => (now.value = Date.now()), 1000)
onScopeDispose(() => {
  clearInterval(clock)
})

/** Curves whose readings have no epochs have no place on the axis of epochs. */
const leftOut = computed(() =>
  axisUsed.value === 'epoch' && !zoom.value && curves.value.length
    ? look.value.names.filter((n) => !curves.value.some((c) => c.name === n))
    : [],
)
const flags = ref<Flag[]>([])
function setFlag(stop: { epoch: number; step: number } | null) {
  const c = stop && curves.value.find((c) => c.name === objective.value)
  const i = c ? c.step.findIndex((s) => s >= stop.step) : -1
  flags.value = c && i >= 0 ? [{ x: c.x[i], text: 'would stop here' }] : []
}
const best = computed(() => {
  const b = run.value?.best
  return b && { curve: b.curve, step: b.step, value: toNumber(b.value) }
})
const area = ref({ left: 46, width: 0, low: 0, high: 1 })
const setArea = (left: number, width: number, low: number, high: number) => {
  const a = area.value
  if (a.left !== left || a.width !== width || a.low !== low || a.high !== high) area.value = { left, width, low, high }
}
const planned = computed(() => {
  const n = run.value?.hyper.epochs
  return typeof n === 'number' ? n : undefined
})
const perEpoch = computed(() => {
  const r = run.value
  const epochs = toNumber(r?.epoch)
  if (!r || !(epochs >= 1)) return ''
  const seen = r.since && r.legs?.length ? Date.parse(r.legs[r.legs.length - 1].seen) - Date.parse(r.since) : 0
  return duration((r.took * 1000 + seen) / epochs)
})
const csv = computed(() => `/api/v1/projects/${props.project}/history?runs=${props.number}`)
</script>

<template>
  <main>
    <PageProblem :problem="problem" :missing="!run" :name="`${project}/${number}`" />
    <template v-if="run">
      <div class="page-head">
        <div>
          <div class="mono small">
            {{ run.address }}
            <template v-if="run.origin">
              · {{ run.origin.kind === 'branch' ? 'branched from' : 'repeats' }}
              <RouterLink :to="linkTo(run.origin.from)">{{ run.origin.from }}</RouterLink>
            </template>
          </div>
          <h1>{{ run.title || run.address }}</h1>
        </div>
        <div class="now">
          <StateMark :state="run.state" />
          <span v-if="run.epoch !== 'NaN'" class="small">
            · epoch {{ Math.floor(toNumber(run.epoch)) }}
            <template v-if="planned">of {{ planned }}</template>
          </span>
        </div>
        <span class="space"></span>
        <div v-if="run.best">
          <div class="small">best {{ objective }}</div>
          <div class="mono figure">
            {{ figure(run.best) }}
            <span class="small">{{ place(run.best) }}</span>
          </div>
        </div>
        <div v-if="run.last">
          <div class="small">last</div>
          <div class="mono figure" :class="{ bad: !Number.isFinite(toNumber(run.last.value)) }">
            {{ figure(run.last) }}
          </div>
        </div>
        <div v-if="perEpoch">
          <div class="small">per epoch</div>
          <div class="mono figure">{{ perEpoch }}</div>
        </div>
        <div>
          <div class="small">started</div>
          <div class="figure">{{ when(run.started) }}, {{ run.host }}</div>
        </div>
        <div>
          <div class="small">{{ run.ended ? 'took' : 'for' }}</div>
          <div class="mono figure">{{ tookRun(run, now) }}</div>
        </div>
      </div>

      <ul v-if="run.raised?.length || run.warnings?.length" class="warnings">
        <li v-for="a in run.raised ?? []" :key="a" class="bad">{{ a }}</li>
        <li v-for="w in run.warnings" :key="w" class="warn">{{ w }}</li>
      </ul>
      <Question title="How is it learning?" :says="run.answers.learning">
        <template #aside>
          <VerdictActs :run="run" @changed="loadRun" />
          <StopRule
            :project="project"
            :number="number"
            :state="run.stop"
            :running="run.state === 'running'"
            :tries="[number]"
            :maker="run.who"
            @changed="loadRun"
            @tried="setFlag"
          />
          <p class="small"><a :href="csv" download>All readings as CSV</a></p>
          <p v-if="run.expected_end" class="small">Expected to end about {{ when(run.expected_end) }}.</p>
        </template>
        <CurveControls :axes="['epoch', 'step', 'since', 'clock']" :unit="axisUsed">
          <ElSelect
            v-if="all.length > 1"
            v-model="picked"
            size="small"
            multiple
            collapse-tags
            filterable
            class="pick"
            aria-label="Measures shown"
          >
            <ElOption v-for="f in all" :key="f.family" :value="f.family" />
          </ElSelect>
          <template v-if="run.state === 'running'" #end>
            <span class="space"></span>
            <ElCheckbox v-model="paused" size="small" label="pause" />
            <span class="small" role="status">
              {{ paused ? behindText : connected ? 'live' : 'cut off; connecting again' }}
            </span>
          </template>
        </CurveControls>
        <p v-if="!names.length" class="small">No reading yet.</p>
        <p v-if="leftOut.length" class="small">
          Without epochs, so not on this axis: {{ leftOut.join(', ') }}.
          <ElButton size="small" @click="axis = 'step'">By step</ElButton>
        </p>
        <div class="charts">
          <div v-for="(m, i) in charts" :key="m.family" :class="{ wide: m.curves.length > manyCurves }">
            <CurveChart
              :title="m.family"
              :file="`${project}-${number}`"
              :curves="m.curves"
              :axis="axisUsed"
              :scale="scale"
              :hide="hide"
              :from="range.from"
              :to="range.to"
              :best="best"
              :flags="i === 0 ? flags : []"
              :height="m.curves.length > manyCurves ? 390 : undefined"
              @zoom="setZoom"
              @area="(l, w, a, b) => i === 0 && setArea(l, w, a, b)"
            />
            <LegAxis
              v-if="i === 0"
              v-bind="area"
              :legs="run.legs ?? []"
              :checkpoints="checkpoints"
              :axis="axisUsed"
              :started="look.started"
              @choose="(c) => $router.push(linkTo(c.address))"
            />
            <p v-if="i === 1" class="small key">
              ◆ best &#160; ● usable to resume &#160; ○ less &#160; ■ pinned &#160; × dropped &#160;
              <u>&#160;</u>
              to be deleted &#160; drag to zoom; keys + − ← → 0
            </p>
          </div>
        </div>
      </Question>

      <Wrong :project="project" :number="number" :mark="answers" />

      <Question id="what-came-out" title="What came out?" :says="run.answers.came_out">
        <CheckpointTable
          :checkpoints="checkpoints"
          :objective="objective"
          :project="project"
          :number="number"
          :maker="run.who"
          @changed="loadCheckpoints"
        />
      </Question>

      <Found :project="project" :number="number" :says="run.answers.evaluated" :mark="answers" />

      <Written :project="project" :number="number" :mark="files" />

      <Question title="What went in?" :says="run.answers.went_in">
        <template #aside><LineageLink :of="run.address" /></template>
        <WentIn :run="run" />
      </Question>

      <Question title="What happened?" :says="run.answers.happened">
        <WhatHappened :run="run" :machine="machineCharts" :output="output" :now="now" />
      </Question>

      <Question title="What next?">
        <NextSteps :run="run" :checkpoints="checkpoints" />
      </Question>
    </template>
  </main>
</template>

<style scoped>
.warnings {
  margin: 0 24px 12px;
  padding-left: 18px;
}
.charts {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 16px 20px;
}
.wide {
  grid-column: 1 / -1;
}
.pick {
  width: 170px;
}
.key {
  margin: 4px 0 0 46px;
}
@media (max-width: 700px) {
  .charts {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
