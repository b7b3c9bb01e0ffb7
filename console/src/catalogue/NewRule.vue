<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput, ElInputNumber, ElOption, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, type Model, type RulePast } from '../api/client'
import Ask from '../shared/Ask.vue'
import RuleRuns from './RuleRuns.vue'

/** Asks for a rule by which runs enter a model, and shows what it would have done before it is made. */
const props = defineProps<{ model: Model }>()
const emit = defineEmits<{ made: [] }>()
const open = defineModel<boolean>({ required: true })
const blank = { where: '', checkpoint: 'best' as 'best' | 'last', by: 'noise', margin: 0.01, ask: '', each: false }
const asked = ref({ ...blank })
const past = ref<RulePast>()
const problem = ref('')
const trying = ref(false)
watch(open, () => {
  asked.value = { ...blank }
  past.value = undefined
  problem.value = ''
})
watch(asked, () => (past.value = undefined), { deep: true })
const body = computed(() => ({
  where: asked.value.where.trim(),
  checkpoint: asked.value.checkpoint,
  ask: asked.value.ask,
  each: asked.value.each,
  ...(asked.value.by === 'margin' ? { margin: asked.value.margin } : {}),
}))
const params = computed(() => ({ params: { path: { model: props.model.name } }, body: body.value }))
async function look() {
  trying.value = true
  problem.value = ''
  try {
    past.value = await answer(client.POST('/api/v1/models/{model}/rules/try', params.value))
  } catch (e) {
    past.value = undefined
    problem.value = (e as Error).message
  } finally {
    trying.value = false
  }
}
async function make() {
  await answer(client.POST('/api/v1/models/{model}/rules', params.value))
  emit('made')
}
</script>

<template>
  <Ask v-model="open" title="Have runs enter by a rule" button="Make the rule" :width="860" :act="make">
    <label class="beside">
      Runs with
      <ElInput
        v-model="asked.where"
        class="mono"
        maxlength="3000"
        placeholder="search == 3 && hyper.lr < 0.1; empty: all that end"
      />
    </label>
    <div class="row">
      <span>Their</span>
      <ElSelect v-model="asked.checkpoint" aria-label="Checkpoint" class="short">
        <ElOption value="best" label="best checkpoint" />
        <ElOption value="last" label="last checkpoint" />
      </ElSelect>
      <span>must be better than the edition in use</span>
    </div>
    <div class="row">
      <ElRadioGroup v-model="asked.by" aria-label="By how much">
        <ElRadio value="noise">beyond the noise between seeds</ElRadio>
        <ElRadio value="margin">by more than</ElRadio>
      </ElRadioGroup>
      <ElInputNumber
        v-model="asked.margin"
        :min="0"
        :controls="false"
        :disabled="asked.by !== 'margin'"
        aria-label="Margin"
        class="narrow"
      />
    </div>
    <div class="row">
      <ElCheckbox v-model="asked.each">each such run enters, also where a better one entered since</ElCheckbox>
    </div>
    <label class="beside">
      Is asked for
      <ElSelect v-model="asked.ask" :empty-values="[undefined]" aria-label="Standing that it is asked for">
        <ElOption value="" label="no standing" />
        <ElOption v-for="s in model.standings" :key="s.name" :value="s.name" :label="s.name" />
      </ElSelect>
    </label>
    <div class="row">
      <ElButton :loading="trying" @click="look">Try it on the runs that there are</ElButton>
      <span role="status">{{ past?.says }}</span>
    </div>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <div v-if="past?.runs?.length" class="past" tabindex="0" role="region" aria-label="What it would have done">
      <RuleRuns :runs="[...past.runs].reverse()" :model="model.name" />
    </div>
  </Ask>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: center;
}
.short {
  width: 150px;
}
.narrow {
  width: 90px;
}
.row :deep(.el-checkbox__label) {
  font-weight: 400;
}
.past {
  max-height: 300px;
  overflow: auto;
}
</style>
