<script setup lang="ts">
import { ElButton, ElInput, ElInputNumber } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { answer, client, type KeepRule, type KeepState, type KeepTried } from '../api/client'
import { useMay } from '../shared/may'
import KeepStrips from './KeepStrips.vue'

/** The rule by which checkpoints stay, of a project or of a run: what another would keep, and a change of it. */
const props = defineProps<{ project: string; number?: number; state: KeepState }>()
const emit = defineEmits<{ changed: [] }>()
const { may, why } = useMay(props.project)
const needs = computed(() => (props.number ? 'member' : 'owner'))
const allowed = computed(() => may(needs.value))
const example = 'at("accuracy.val") > 0.95'
const rule = reactive<KeepRule>({})
const tried = ref<KeepTried>()
const problem = ref('')
const busy = ref(false)

watch(
  () => props.state,
  (s) => Object.assign(rule, { best: 0, last: 0, every: 0, days: 0, where: '', ...s.rule, grace: s.rule?.grace || 7 }),
  { immediate: true },
)
const path = () => ({ project: props.project, number: props.number ?? 0 })
const ofRun = '/api/v1/projects/{project}/runs/{number}/keep-rule'
const ofProject = '/api/v1/projects/{project}/keep-rule'
/** The rule as the service takes it, without the parts that say nothing. */
const asked = () => Object.fromEntries(Object.entries(rule).filter(([, v]) => v)) as KeepRule
const said = () => asked().best || asked().last || asked().every || asked().days || asked().where

async function act(call: () => Promise<unknown>) {
  problem.value = ''
  busy.value = true
  try {
    await call()
  } catch (e) {
    problem.value = (e as Error).message
  }
  busy.value = false
}
/** What goes by the rule in the fields; where they say nothing, by those that are set. */
const attempt = () =>
  act(async () => {
    const body = { rule: said() ? asked() : undefined, runs: props.number ? [props.number] : undefined }
    const params = { path: { project: props.project } }
    tried.value = await answer(client.POST('/api/v1/projects/{project}/keep-rule/try', { params, body }))
  })
const change = (call: () => Promise<unknown>) =>
  act(async () => {
    await call()
    emit('changed')
  })
const set = () =>
  change(() =>
    props.number
      ? answer(client.PUT(ofRun, { params: { path: path() }, body: { rule: asked() } }))
      : answer(client.PUT(ofProject, { params: { path: path() }, body: asked() })),
  )
const all = () => change(() => answer(client.PUT(ofRun, { params: { path: path() }, body: { none: true } })))
const unset = () => change(() => answer(client.DELETE(props.number ? ofRun : ofProject, { params: { path: path() } })))
defineExpose({ attempt })
</script>

<template>
  <form class="keep" @submit.prevent="attempt">
    <div class="fields">
      <label>
        Best
        <ElInputNumber v-model="rule.best" size="small" :min="0" :max="10000" />
      </label>
      <label>
        Last
        <ElInputNumber v-model="rule.last" size="small" :min="0" :max="10000" />
      </label>
      <label>
        One of every so many epochs
        <ElInputNumber v-model="rule.every" size="small" :min="0" />
      </label>
      <label>
        Of the last days
        <ElInputNumber v-model="rule.days" size="small" :min="0" :max="36500" />
      </label>
      <label class="where">
        Those for which
        <ElInput v-model="rule.where" size="small" :placeholder="example" />
      </label>
      <label>
        Grace period, days
        <ElInputNumber v-model="rule.grace" size="small" :min="0" :max="365" />
      </label>
      <span class="acts">
        <ElButton native-type="submit" size="small" :loading="busy">Try</ElButton>
        <ElButton v-if="allowed" size="small" type="primary" :disabled="!said() || busy" @click="set">Set</ElButton>
        <ElButton v-if="allowed && number && state.from === 'run'" size="small" @click="unset">As the project</ElButton>
        <ElButton v-if="allowed && number && state.rule" size="small" @click="all">Keep all</ElButton>
        <ElButton v-if="allowed && !number && state.rule" size="small" @click="unset">Keep all</ElButton>
      </span>
    </div>
    <p v-if="!allowed" class="small">{{ why(needs) }}</p>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <p v-if="tried" role="status">
      The rule {{ tried.said }}. {{ tried.says }}
      <span class="small">Trying changes nothing.</span>
    </p>
    <KeepStrips v-if="tried?.checkpoints?.length" :checkpoints="tried.checkpoints" />
  </form>
</template>

<style scoped>
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 18px;
  align-items: end;
}
label {
  display: grid;
  gap: 3px;
  font-size: 12px;
  color: var(--ink2);
}
.where {
  min-width: 230px;
}
.fields .el-input-number {
  width: 108px;
}
</style>
