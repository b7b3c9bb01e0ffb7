<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { ref, watch } from 'vue'
import { answer, client, type Subscription } from '../api/client'

/** Asks who is to be told of what. */
const props = defineProps<{ project: string }>()
const emit = defineEmits<{ made: [Subscription] }>()
const open = defineModel<boolean>({ required: true })
const blank = { name: '', url: '', kinds: [] as string[], subject: '', where: '', machine: '' }
const asked = ref({ ...blank })
const machines = ref<string[]>([])
const problem = ref('')
const busy = ref(false)
/** The kinds that receivers mostly ask for; others are typed. */
const known = [
  'model.*',
  'model.entered',
  'model.asked',
  'model.given',
  'run.*',
  'run.finished',
  'run.failed',
  'checkpoint.saved',
]
watch(open, async (now) => {
  problem.value = ''
  if (!now) return
  asked.value = { ...blank }
  try {
    const people = await answer(client.GET('/api/v1/people', { params: { query: { limit: 500 } } }))
    machines.value = (people.items ?? []).filter((p) => p.kind === 'machine' && !p.closed).map((p) => p.name)
  } catch {
    machines.value = [] // they are typed in the terminal
  }
})
async function go() {
  busy.value = true
  problem.value = ''
  try {
    emit(
      'made',
      await answer(
        client.POST('/api/v1/projects/{project}/subscriptions', {
          params: { path: { project: props.project } },
          body: { ...asked.value, name: asked.value.name.trim(), url: asked.value.url.trim() },
        }),
      ),
    )
    open.value = false
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ElDialog v-model="open" title="Have an address told of events" width="520">
    <form class="asks" @submit.prevent="go">
      <label>
        Name
        <ElInput v-model="asked.name" placeholder="build-hall" maxlength="40" />
      </label>
      <label>
        Address
        <ElInput v-model="asked.url" placeholder="https://build.harbour.example/kembrel" maxlength="2000" />
      </label>
      <label>
        Events
        <ElSelect
          v-model="asked.kinds"
          multiple
          filterable
          allow-create
          default-first-option
          placeholder="all"
          aria-label="Events"
        >
          <ElOption v-for="k in known" :key="k" :value="k" :label="k" />
        </ElSelect>
      </label>
      <label>
        Only of
        <ElInput v-model="asked.subject" placeholder="everything; or vessel-classifier, vessels/17" maxlength="200" />
      </label>
      <label>
        Of runs where
        <ElInput
          v-model="asked.where"
          class="mono"
          placeholder="all, or a condition as on the runs page"
          maxlength="2000"
        />
      </label>
      <label>
        Reports back as
        <ElSelect v-model="asked.machine" clearable placeholder="it may not" aria-label="Reports back as">
          <ElOption v-for="m in machines" :key="m" :value="m" :label="m" />
        </ElSelect>
      </label>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    </form>
    <template #footer>
      <ElButton @click="open = false">Cancel</ElButton>
      <ElButton type="primary" :disabled="!asked.name.trim() || !asked.url.trim()" :loading="busy" @click="go">
        Tell it
      </ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.asks {
  display: grid;
  gap: 10px;
}
.asks label {
  display: grid;
  grid-template-columns: 120px minmax(0, 1fr);
  align-items: center;
}
</style>
