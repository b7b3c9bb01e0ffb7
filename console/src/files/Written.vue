<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { answer, client, type RunFile } from '../api/client'
import FileView from './FileView.vue'
import Question from '../shared/Question.vue'
import { bytes, when } from '../shared/format'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'

/** What a run wrote that is no checkpoint. Nothing is shown where there is nothing. */
const props = defineProps<{ project: string; number: number; mark: number }>()
const list = ref<RunFile[]>([])
const more = ref('')
const { problem, loader } = useLoading()
const read = async (cursor?: string) => {
  const page = await answer(
    client.GET('/api/v1/projects/{project}/runs/{number}/files', {
      params: { path: { project: props.project, number: props.number }, query: { limit: 100, cursor } },
    }),
  )
  list.value = cursor ? [...list.value, ...(page.items ?? [])] : (page.items ?? [])
  more.value = page.next ?? ''
}
const load = loader(() => read())
const rest = loader(() => read(more.value))
watch(() => props.mark, load, { immediate: true })

/** The file that is open: its evaluation and its path, in the link. */
const open = useQuery<string>('file', '')
const key = (f: RunFile) => `${f.evaluation ?? 0}:${f.path}`
const opened = computed(() => list.value.find((f) => key(f) === open.value))
const says = computed(() => {
  const all = list.value.filter((f) => !f.dropped)
  const size = all.reduce((sum, f) => sum + f.size, 0)
  return `${list.value.length}${more.value ? ' or more' : ''} ${list.value.length === 1 ? 'file' : 'files'}, ${bytes(size)}.`
})
</script>

<template>
  <Question v-if="list.length || problem" id="files" title="What did it write?" :says="says">
    <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
    <table>
      <thead>
        <tr>
          <th>File</th>
          <th>Kind</th>
          <th class="n">Size</th>
          <th>Written</th>
          <th>Remark</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in list" :key="key(f)" :class="{ chosen: key(f) === open }">
          <td class="mono">
            <button
              v-if="!f.dropped"
              type="button"
              class="link"
              :aria-expanded="key(f) === open"
              @click="open = key(f) === open ? '' : key(f)"
            >
              {{ f.path }}
            </button>
            <template v-else>{{ f.path }}</template>
          </td>
          <td>{{ f.kind }}</td>
          <td class="n">{{ bytes(f.size) }}</td>
          <td class="small">{{ when(f.written) }}</td>
          <td class="small">
            <span v-if="f.evaluation">of evaluation {{ f.evaluation }}</span>
            <span v-if="f.dropped" class="bad">dropped {{ when(f.dropped) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <button v-if="more" type="button" class="link" @click="rest">More files</button>
    <FileView v-if="opened" :key="key(opened)" :project="project" :number="number" :file="opened" />
  </Question>
</template>

<style scoped>
.chosen td {
  background: var(--accent2);
}
</style>
