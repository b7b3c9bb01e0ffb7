<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { answer, client, type Project } from '../api/client'
import { once, useLive } from '../shared/live'
import Moved from './Moved.vue'
import { figure, place, when } from '../shared/format'

const projects = ref<Project[]>()
const problem = ref('')
const route = useRoute()
const archived = computed(() => route.query.shown === 'archived')

const load = once(async () => {
  try {
    projects.value =
      (
        await answer(
          client.GET('/api/v1/projects', {
            params: { query: { limit: 500, shown: archived.value ? 'archived' : '' } },
          }),
        )
      ).items ?? []
    problem.value = ''
  } catch (e) {
    problem.value = (e as Error).message
  }
})
watch(archived, load)
useLive({}, { hello: load, project: load, run: load, leg: load, summary: load })
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>{{ archived ? 'Archived projects' : 'Projects' }}</h1>
      <RouterLink v-if="archived" to="/" class="small">Projects</RouterLink>
      <RouterLink v-else :to="{ query: { shown: 'archived' } }" class="small">Archived</RouterLink>
    </div>
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <p v-if="archived && projects && !projects.length">No project is archived.</p>
    <template v-else-if="projects && !projects.length">
      <p>A project holds the runs of one task. None is here yet; this creates one and records a run in it:</p>
      <pre class="command">
kembrel projects create vessels --title "Vessel classes by sound"
kembrel record --project vessels -- ./harbour train</pre>
    </template>
    <table v-else-if="projects">
      <thead>
        <tr>
          <th>Project</th>
          <th>Objective</th>
          <th class="n">Best</th>
          <th>By</th>
          <th>How it moved</th>
          <th class="n">Runs</th>
          <th class="n">Running</th>
          <th class="n">Lost</th>
          <th>Created</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in projects" :key="p.key">
          <td>
            <RouterLink :to="{ name: 'runs', params: { project: p.key } }">
              <span class="mono">{{ p.key }}</span>
              &#160;{{ p.title }}
            </RouterLink>
          </td>
          <td class="small">{{ p.objective.curve }}, {{ p.objective.direction }}</td>
          <td class="n">{{ figure(p.best) }}</td>
          <td>
            <RouterLink
              v-if="p.best_run"
              class="mono"
              :to="{ name: 'run', params: { project: p.key, number: p.best_run } }"
            >
              {{ p.key }}/{{ p.best_run }}{{ place(p.best) }}
            </RouterLink>
          </td>
          <td><Moved :project="p" /></td>
          <td class="n">{{ p.runs }}</td>
          <td class="n" :class="{ accent: p.running }">{{ p.running }}</td>
          <td class="n" :class="{ bad: p.lost }">{{ p.lost }}</td>
          <td class="small">{{ when(p.created) }}</td>
        </tr>
      </tbody>
    </table>
  </main>
</template>

<style scoped>
.head {
  display: flex;
  align-items: baseline;
  justify-content: space-between;
  margin-bottom: 16px;
}
</style>
