<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput, ElInputNumber, ElSegmented } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { answer, client, type Objective, type StopRule, type StopState } from '../api/client'
import { useMay } from './may'
import { number as text, place, toNumber } from './format'

/** The rule that may end runs early, of a run or of a project: what it has come to, a change of it, and where another would have stopped. */
const props = defineProps<{
  project: string
  number?: number
  state: StopState
  running: boolean
  tries: number[]
  maker?: string
}>()
const emit = defineEmits<{ changed: []; tried: [stop: { epoch: number; step: number } | null] }>()
const epochs = (n: number) => `${text(n)} ${n === 1 ? 'epoch' : 'epochs'}`
const { may, why } = useMay(props.project)
const needs = computed(() => (props.number ? 'member' : 'owner'))
const allowed = computed(() => may(needs.value, props.maker))
const open = ref(false)
const problem = ref('')
const tried = ref<string[]>([])
const watched = reactive<Objective>({ curve: '', direction: 'lower' })
const rule = reactive<Omit<StopRule, 'objective'>>({
  patience: 5,
  margin: 0,
  relative: false,
  earliest: 0,
  diverged: false,
})

const ofRun = '/api/v1/projects/{project}/runs/{number}/stop-rule'
const ofProject = '/api/v1/projects/{project}/stop-rule'
const says = computed(() => {
  const s = props.state
  if (s.stopped) return `${s.stopped.why}${s.stopped.checkpoint ? ` Best checkpoint ${s.stopped.checkpoint}.` : ''}`
  if (!s.rule) return props.running ? 'No stop rule.' : ''
  const left = toNumber(s.left)
  return `Stop rule of the ${s.from}: ${s.said}${Number.isNaN(left) ? '' : `; ${epochs(left)} of patience left`}.`
})

function show() {
  const { objective, ...rest } = props.state.rule ?? {}
  Object.assign(rule, rest)
  Object.assign(watched, objective ?? { curve: '', direction: 'lower' })
  tried.value = []
  problem.value = ''
  open.value = true
}
/** The rule as the service takes it: without a curve of its own it watches the run's objective. */
const asked = (): StopRule => {
  const curve = watched.curve.trim()
  return { ...rule, objective: curve ? { ...watched, curve } : undefined }
}
async function act(call: () => Promise<unknown>) {
  problem.value = ''
  try {
    await call()
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const change = (call: () => Promise<unknown>) =>
  act(async () => {
    await call()
    open.value = false
    emit('changed')
  })
const path = () => ({ project: props.project, number: props.number ?? 0 })
const set = () =>
  change(() =>
    props.number
      ? answer(client.PUT(ofRun, { params: { path: path() }, body: { rule: asked() } }))
      : answer(client.PUT(ofProject, { params: { path: path() }, body: asked() })),
  )
const none = () => change(() => answer(client.PUT(ofRun, { params: { path: path() }, body: { none: true } })))
const drop = () => change(() => answer(client.DELETE(props.number ? ofRun : ofProject, { params: { path: path() } })))
const attempt = () =>
  act(async () => {
    const got = await answer(
      client.POST('/api/v1/projects/{project}/stop-rule/try', {
        params: { path: { project: props.project } },
        body: { rule: asked(), runs: props.tries },
      }),
    )
    const outcomes = got.runs ?? []
    tried.value = outcomes.map((t) =>
      t.stop
        ? `${t.address} would have stopped ${place(t.stop)}: best until then ${text(t.best?.value)} ${place(t.best)}, ${epochs(toNumber(t.saved_epochs))} saved, ${text(t.lost)} lost.`
        : `${t.address} would not have been stopped.`,
    )
    const t = outcomes[0]
    emit('tried', t?.stop ? { epoch: toNumber(t.stop.epoch), step: t.stop.step } : null)
  })
</script>

<template>
  <div class="small stop">
    <span v-if="says">{{ says }}</span>
    <button type="button" class="small" @click="show">{{ running && allowed ? 'change' : 'try a stop rule' }}</button>
    <ElDialog v-model="open" :title="running && allowed ? 'Stop rule' : 'Try a stop rule'" width="460">
      <div class="fields">
        <label>
          Curve, else the objective
          <ElInput v-model="watched.curve" size="small" placeholder="loss.val" />
        </label>
        <label v-if="watched.curve.trim()">
          It improves towards
          <ElSegmented v-model="watched.direction" size="small" :options="['lower', 'higher']" />
        </label>
        <label>
          Patience, epochs
          <ElInputNumber v-model="rule.patience" size="small" :min="0" />
        </label>
        <label>
          Margin
          <ElInputNumber v-model="rule.margin" size="small" :min="0" :step="0.001" />
        </label>
        <label>
          Not before epoch
          <ElInputNumber v-model="rule.earliest" size="small" :min="0" />
        </label>
        <ElCheckbox v-model="rule.relative" label="the margin is a share of the best value" />
        <ElCheckbox v-model="rule.diverged" label="also stop when it is not a number" />
      </div>
      <p v-for="t in tried" :key="t" role="status">{{ t }}</p>
      <p v-if="running && !allowed" class="small">{{ why(needs) }}</p>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
      <template #footer>
        <ElButton @click="attempt">Try</ElButton>
        <template v-if="running && allowed">
          <ElButton v-if="number && state.from === 'run'" @click="drop">As the project</ElButton>
          <ElButton v-if="!number && state.rule" @click="drop">None</ElButton>
          <ElButton v-if="number && state.rule" @click="none">None</ElButton>
          <ElButton type="primary" @click="set">Set</ElButton>
        </template>
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.stop {
  margin-top: 8px;
}
.stop span {
  margin-right: 6px;
}
.stop button.small {
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
.fields {
  display: grid;
  gap: 8px;
}
.fields .el-input {
  width: 150px;
}
.fields label:not(.el-checkbox) {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
