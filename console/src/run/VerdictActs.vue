<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { answer, client, type RunDetail } from '../api/client'
import { useMay } from '../shared/may'
import { when } from '../shared/format'

/** The person's word on a verdict: disputed with a reason, or let stand again. */
const props = defineProps<{ run: RunDetail }>()
const emit = defineEmits<{ changed: [] }>()
const { may } = useMay(props.run.project)
const allowed = computed(() => may('member', props.run.who))
const open = ref(false)
const reason = ref('')
const problem = ref('')

const path = { project: props.run.project, number: props.run.number }
const url = '/api/v1/projects/{project}/runs/{number}/verdict/dispute'

async function act(call: () => Promise<unknown>) {
  problem.value = ''
  try {
    await call()
    open.value = false
    emit('changed')
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const dispute = () => act(() => answer(client.PUT(url, { params: { path }, body: { reason: reason.value } })))
const stand = () => act(() => answer(client.DELETE(url, { params: { path } })))
</script>

<template>
  <div v-if="run.verdict?.kind" class="small word">
    <template v-if="run.verdict.dispute">
      {{ run.verdict.dispute.who }} disputes “{{ run.verdict.dispute.kind }}” {{ when(run.verdict.dispute.at) }}:
      {{ run.verdict.dispute.reason }}
      <button v-if="allowed" type="button" class="small" @click="stand">let it stand</button>
    </template>
    <button v-else-if="allowed" type="button" class="small" @click="open = true">disagree</button>
    <span v-if="problem && !open" class="bad" role="alert">{{ problem }}</span>
    <ElDialog v-model="open" title="Dispute the verdict" width="460">
      <p>{{ run.verdict.said }}</p>
      <label>
        Why it does not hold
        <ElInput v-model="reason" type="textarea" :rows="3" maxlength="2000" />
      </label>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
      <template #footer>
        <ElButton type="primary" :disabled="!reason.trim()" @click="dispute">Dispute</ElButton>
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.word {
  margin-top: 8px;
}
button.small {
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
</style>
