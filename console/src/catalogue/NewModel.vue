<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { ref, watch } from 'vue'
import { answer, client, type Model } from '../api/client'

/** Asks what a model is for and whose roles hold; it has one standing, in-use, which sign-offs guard. */
const emit = defineEmits<{ made: [Model] }>()
const open = defineModel<boolean>({ required: true })
const blank = { name: '', title: '', project: '', purpose: '', approvers: 1 }
const asked = ref({ ...blank })
const projects = ref<string[]>([])
const problem = ref('')
const busy = ref(false)
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
async function go() {
  busy.value = true
  problem.value = ''
  try {
    const { approvers, name, ...rest } = asked.value
    const standings = [{ name: 'in-use', approvers, checks: [] }]
    emit('made', await answer(client.POST('/api/v1/models', { body: { ...rest, name: name.trim(), standings } })))
    open.value = false
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <ElDialog v-model="open" title="Make a model" width="520">
    <form class="asks" @submit.prevent="go">
      <label>
        Name
        <ElInput v-model="asked.name" placeholder="vessel-classifier" maxlength="40" />
      </label>
      <label>
        Title
        <ElInput v-model="asked.title" maxlength="200" />
      </label>
      <label>
        Roles of
        <ElSelect v-model="asked.project" aria-label="Project whose roles hold">
          <ElOption v-for="p in projects" :key="p" :value="p" :label="p" />
        </ElSelect>
      </label>
      <label>
        What it is for
        <ElInput v-model="asked.purpose" type="textarea" :rows="3" maxlength="20000" />
      </label>
      <label>
        Sign-offs to be in use
        <ElInputNumber v-model="asked.approvers" :min="0" :max="20" :controls="false" aria-label="Sign-offs" />
      </label>
      <p v-if="!projects.length" class="small">Owners of a project make models; you own none.</p>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    </form>
    <template #footer>
      <ElButton @click="open = false">Cancel</ElButton>
      <ElButton type="primary" :disabled="!asked.name.trim() || !asked.project" :loading="busy" @click="go">
        Make it
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
