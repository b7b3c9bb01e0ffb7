<script setup lang="ts">
import { ElButton } from 'element-plus'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { answer, client, type Model } from '../api/client'
import Question from '../shared/Question.vue'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import NewModel from './NewModel.vue'

/** All models that the team hands on, with what is in use of each and what waits. */
const router = useRouter()
const making = ref(false)
const models = ref<Model[]>()
const { problem, loader } = useLoading()
const load = loader(async () => {
  const all: Model[] = []
  for (let cursor: string | undefined; ;) {
    const page = await answer(client.GET('/api/v1/models', { params: { query: { limit: 200, cursor } } }))
    all.push(...(page.items ?? []))
    cursor = page.next
    if (!cursor) break
  }
  models.value = all
})
useLive({}, { model: load, hello: load })
const held = (m: Model) => (m.standings ?? []).filter((s) => s.edition)
const says = (list: Model[]) => {
  if (!list.length) return 'None yet.'
  const some = list.length === 1 ? '1 model' : `${list.length} models`
  const waits = list.reduce((n, m) => n + (m.waiting?.length ?? 0), 0)
  if (!waits) return `${some}; nothing waits.`
  return `${some}; ${waits === 1 ? '1 edition waits' : `${waits} editions wait`} for a standing.`
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>Catalogue</h1>
      <span class="space"></span>
      <ElButton size="small" @click="making = true">New model …</ElButton>
    </div>
    <p v-if="problem" class="bad page-top" role="alert">{{ problem }}</p>
    <Question v-if="models" title="What do we hand on?" :says="says(models)">
      <template #aside>
        <p class="small">
          A model is for one purpose. Checkpoints are entered in it as editions, which never change and stay when their
          run is deleted.
        </p>
      </template>
      <table v-if="models.length">
        <thead>
          <tr>
            <th>Model</th>
            <th>Title</th>
            <th>Standings</th>
            <th>Waits</th>
            <th class="n">Editions</th>
            <th>Runs where</th>
            <th>Project</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="m in models" :key="m.name">
            <td>
              <RouterLink class="mono" :to="{ name: 'model', params: { model: m.name } }">{{ m.name }}</RouterLink>
            </td>
            <td class="long">{{ m.title }}</td>
            <td>
              <template v-for="s in held(m)" :key="s.name">
                <span class="small">{{ s.name.replaceAll('-', ' ') }}</span>
                <span class="mono">&#160;#{{ s.edition }}&ensp;</span>
              </template>
              <span v-if="!held(m).length" class="small">none has one</span>
            </td>
            <td>
              <template v-for="w in m.waiting ?? []" :key="w.id">
                <span class="mono warn">#{{ w.edition }}</span>
                <span class="small">&#160;for {{ w.standing.replaceAll('-', ' ') }}&ensp;</span>
              </template>
            </td>
            <td class="n">{{ m.editions }}</td>
            <td class="small long">{{ m.says.where }}</td>
            <td class="mono">{{ m.project }}</td>
          </tr>
        </tbody>
      </table>
      <template v-else>
        <p>A model is made here or in the terminal, and a checkpoint entered in it:</p>
        <pre class="command">
kembrel catalogue create vessel-classifier --project vessels --title "Vessel classes by sound"
kembrel catalogue add vessels/3@best --model vessel-classifier</pre>
      </template>
    </Question>
    <NewModel v-model="making" @made="(m: Model) => router.push({ name: 'model', params: { model: m.name } })" />
  </main>
</template>

<style scoped>
.long {
  white-space: normal;
}
</style>
