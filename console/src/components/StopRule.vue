<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInputNumber } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { answer, client, type RunDetail, type StopRule } from '../api/client'
import { number as text, place, toNumber } from '../format'

/** The rule that may end the run: what it has come to, a change of it, and where another would have stopped. */
const props = defineProps<{ run: RunDetail }>()
const emit = defineEmits<{ changed: []; tried: [stop: { epoch: number; step: number } | null] }>()
const open = ref(false)
const problem = ref('')
const tried = ref('')
const rule = reactive<StopRule>({ patience: 5, margin: 0, relative: false, earliest: 0, diverged: false })

const path = { project: props.run.project, number: props.run.number }
const url = '/api/v1/projects/{project}/runs/{number}/stop-rule'
const running = computed(() => props.run.state === 'running')
const says = computed(() => {
  const s = props.run.stop
  if (s.stopped) return `${s.stopped.why}${s.stopped.checkpoint ? ` Best checkpoint ${s.stopped.checkpoint}.` : ''}`
  if (!s.rule) return running.value ? 'No stop rule.' : ''
  const left = toNumber(s.left)
  return `Stop rule of the ${s.from}: ${s.said}${Number.isNaN(left) ? '' : `; ${text(left)} epochs of patience left`}.`
})

function show() {
  Object.assign(rule, props.run.stop.rule ?? {})
  tried.value = ''
  problem.value = ''
  open.value = true
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
const set = () => change(() => answer(client.PUT(url, { params: { path }, body: { rule: { ...rule } } })))
const none = () => change(() => answer(client.PUT(url, { params: { path }, body: { none: true } })))
const drop = () => change(() => answer(client.DELETE(url, { params: { path } })))
const attempt = () =>
  act(async () => {
    const got = await answer(
      client.POST('/api/v1/projects/{project}/stop-rule/try', {
        params: { path: { project: path.project } },
        body: { rule: { ...rule }, runs: [path.number] },
      }),
    )
    const t = got.runs![0]
    tried.value = t.stop
      ? `It would have stopped ${place(t.stop)}: best until then ${text(t.best?.value)} ${place(t.best)}, ${text(t.saved_epochs)} epochs saved, ${text(t.lost)} lost.`
      : 'It would not have stopped this run.'
    emit('tried', t.stop ? { epoch: toNumber(t.stop.epoch), step: t.stop.step } : null)
  })
</script>

<template>
  <div class="small stop">
    <span v-if="says">{{ says }}</span>
    <button type="button" class="small" @click="show">{{ running ? 'change' : 'try a stop rule' }}</button>
    <ElDialog
      v-model="open"
      :title="running ? 'Stop rule' : 'Try a stop rule'"
      width="460"
      @closed="emit('tried', null)"
    >
      <div class="fields">
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
      <p v-if="tried" role="status">{{ tried }}</p>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
      <template #footer>
        <ElButton @click="attempt">Try</ElButton>
        <template v-if="running">
          <ElButton v-if="run.stop.from === 'run'" @click="drop">As the project</ElButton>
          <ElButton v-if="run.stop.rule" @click="none">None</ElButton>
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
.fields label {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
