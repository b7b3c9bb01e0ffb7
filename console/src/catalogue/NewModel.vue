<script setup lang="ts">
import { ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { ref, watch } from 'vue'
import { answer, client, type Model } from '../api/client'
import Ask from '../shared/Ask.vue'

/** Asks what a model is for and whose roles hold; it has one standing, in-use, which sign-offs guard. */
const emit = defineEmits<{ made: [Model] }>()
const open = defineModel<boolean>({ required: true })
const blank = { name: '', title: '', project: '', purpose: '', approvers: 1 }
const asked = ref({ ...blank })
const projects = ref<string[]>([])
const problem = ref('')
watch(open, async (now) => {
  problem.value = ''
  if (!now) return
  asked.value = { ...blank }
  try {
    const all = await answer(client.GET('/api/v1/projects', { params: { query: { limit: 500 } } }))
    projects.value = (all.items ?? []).filter((p) => p.role === 'owner' || p.role === 'administrator').map((p) => p.key)
    asked.value.project = projects.value[0] ?? ''
  } catch (e) {
    problem.value = (e as Error).message
  }
})
async function make() {
  const { approvers, name, ...rest } = asked.value
  const standings = [{ name: 'in-use', approvers, checks: [] }]
  emit('made', await answer(client.POST('/api/v1/models', { body: { ...rest, name: name.trim(), standings } })))
}
</script>

<template>
  <Ask v-model="open" title="Make a model" button="Make it" :ready="!!asked.name.trim() && !!asked.project" :act="make">
    <label class="beside">
      Name
      <ElInput v-model="asked.name" placeholder="vessel-classifier" maxlength="40" />
    </label>
    <label class="beside">
      Title
      <ElInput v-model="asked.title" maxlength="200" />
    </label>
    <label class="beside">
      Roles of
      <ElSelect v-model="asked.project" aria-label="Project whose roles hold">
        <ElOption v-for="p in projects" :key="p" :value="p" :label="p" />
      </ElSelect>
    </label>
    <label class="beside">
      What it is for
      <ElInput v-model="asked.purpose" type="textarea" :rows="3" maxlength="20000" />
    </label>
    <label class="beside">
      Sign-offs to be in use
      <ElInputNumber v-model="asked.approvers" :min="0" :max="20" :controls="false" aria-label="Sign-offs" />
    </label>
    <p v-if="!projects.length" class="small">Owners of a project make models; you own none.</p>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
  </Ask>
</template>
