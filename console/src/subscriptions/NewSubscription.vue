<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { ref, watch } from 'vue'
import { answer, client, type Subscription } from '../api/client'
import Ask from '../shared/Ask.vue'

/** Asks who is to be told of what. */
const props = defineProps<{ project: string }>()
const emit = defineEmits<{ made: [Subscription] }>()
const open = defineModel<boolean>({ required: true })
const blank = { name: '', url: '', kinds: [] as string[], subject: '', where: '', machine: '' }
const asked = ref({ ...blank })
const machines = ref<string[]>([])
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
  'snapshot.made',
]
watch(open, async (now) => {
  if (!now) return
  asked.value = { ...blank }
  try {
    const people = await answer(client.GET('/api/v1/people', { params: { query: { limit: 500 } } }))
    machines.value = (people.items ?? []).filter((p) => p.kind === 'machine' && !p.closed).map((p) => p.name)
  } catch {
    machines.value = [] // they are typed in the terminal
  }
})
async function make() {
  emit(
    'made',
    await answer(
      client.POST('/api/v1/projects/{project}/subscriptions', {
        params: { path: { project: props.project } },
        body: { ...asked.value, name: asked.value.name.trim(), url: asked.value.url.trim() },
      }),
    ),
  )
}
</script>

<template>
  <Ask
    v-model="open"
    title="Have an address told of events"
    button="Tell it"
    :ready="!!asked.name.trim() && !!asked.url.trim()"
    :act="make"
  >
    <label class="beside">
      Name
      <ElInput v-model="asked.name" placeholder="build-hall" maxlength="40" />
    </label>
    <label class="beside">
      Address
      <ElInput v-model="asked.url" placeholder="https://build.harbour.example/kembrel" maxlength="2000" />
    </label>
    <label class="beside">
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
    <label class="beside">
      Only of
      <ElInput v-model="asked.subject" placeholder="everything; or vessel-classifier, vessels/17" maxlength="200" />
    </label>
    <label class="beside">
      Of runs where
      <ElInput
        v-model="asked.where"
        class="mono"
        placeholder="all, or a condition as on the runs page"
        maxlength="2000"
      />
    </label>
    <label class="beside">
      Reports back as
      <ElSelect v-model="asked.machine" clearable placeholder="it may not" aria-label="Reports back as">
        <ElOption v-for="m in machines" :key="m" :value="m" :label="m" />
      </ElSelect>
    </label>
  </Ask>
</template>
