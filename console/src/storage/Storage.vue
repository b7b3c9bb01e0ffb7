<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import { answer, client, type KeepState, type StorageSizes } from '../api/client'
import KeepRule from './KeepRule.vue'
import Question from '../shared/Question.vue'
import SizeBar from './SizeBar.vue'
import { useLive } from '../shared/live'
import { useLoading } from '../shared/loading'
import { bytes, linkTo, when } from '../shared/format'

/** What takes how many bytes, and what can be deleted: of all projects, or of the runs of one. */
const props = defineProps<{ project?: string }>()
const sizes = ref<StorageSizes>()
const state = ref<KeepState>()
const form = ref<InstanceType<typeof KeepRule>>()
const all = ref(false)
const few = 15
const { problem, loader } = useLoading()
const load = loader(async () => {
  sizes.value = await answer(client.GET('/api/v1/storage', { params: { query: { project: props.project } } }))
})
const loadRule = loader(async () => {
  if (!props.project) return
  const params = { path: { project: props.project } }
  const first = !state.value
  state.value = await answer(client.GET('/api/v1/projects/{project}/keep-rule', { params }))
  if (first) {
    await nextTick()
    await form.value?.attempt()
  }
})
const changed = async () => {
  await Promise.all([load(), loadRule()])
  await form.value?.attempt()
}
const everything = async () => {
  await Promise.all([load(), loadRule()])
}
useLive(props.project ? { project: props.project } : {}, { hello: everything, project: everything, checkpoint: load })

const shown = computed(() => {
  const items = sizes.value?.items ?? []
  return all.value ? items : items.slice(0, few)
})
const most = computed(() => Math.max(1, ...(sizes.value?.items ?? []).map((i) => i.stored)))
const link = (address: string) => (props.project ? linkTo(address) : `/${address}/storage`)
const ruleSays = computed(() => {
  const s = state.value
  if (!s) return ''
  if (!s.rule) return 'All checkpoints stay: there is no keep rule.'
  return `The rule ${s.said}. What it does not keep is deleted after ${s.rule.grace || 7} days.`
})
</script>

<template>
  <main>
    <div class="page-top">
      <h1>
        Storage
        <template v-if="project">of {{ project }}</template>
      </h1>
      <span class="space"></span>
      <RouterLink v-if="project" to="/storage" class="small">all projects</RouterLink>
    </div>
    <p v-if="problem" class="bad page-top" role="alert">{{ problem }}</p>
    <Question v-if="sizes" title="What uses the space?" :says="sizes.says">
      <template #aside>
        <p v-if="sizes.loose" class="small">
          {{ bytes(sizes.loose) }} more are held by no checkpoint; cleaning frees them within about a day.
        </p>
        <p class="small">Dropping all checkpoints of a row frees its own bytes; the shared ones others hold too.</p>
        <p class="small">Added up {{ when(sizes.as_of) }}.</p>
      </template>
      <table v-if="sizes.items?.length">
        <thead>
          <tr>
            <th>{{ project ? 'Run' : 'Project' }}</th>
            <th class="n">Checkpoints</th>
            <th class="n">Whole</th>
            <th class="n">Stored</th>
            <th class="wide">
              <span class="key own"></span>
              own
              <span class="key shared"></span>
              shared
            </th>
            <th class="n">Own</th>
            <th class="n">Pinned</th>
            <th class="n">To delete</th>
            <th class="n">Dropped</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in shown" :key="i.address">
            <td class="name">
              <RouterLink :to="link(i.address)" :title="i.title">
                <span class="mono">{{ i.address }}</span>
                &#160;{{ i.title }}
              </RouterLink>
            </td>
            <td class="n">{{ i.checkpoints }}</td>
            <td class="n">{{ bytes(i.whole) }}</td>
            <td class="n">{{ bytes(i.stored) }}</td>
            <td><SizeBar :own="i.own" :shared="i.stored - i.own" :most="most" /></td>
            <td class="n">{{ bytes(i.own) }}</td>
            <td class="n">{{ i.pinned || '' }}</td>
            <td class="n">{{ i.going || '' }}</td>
            <td class="n">{{ i.dropped || '' }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else>
        Nothing is stored yet. A training program saves checkpoints through the binding; their bytes show here.
      </p>
      <button v-if="shown.length < (sizes.items?.length ?? 0)" type="button" class="more" @click="all = true">
        All {{ sizes.items?.length }}
      </button>
    </Question>
    <Question v-if="project && state" title="What can be deleted?" :says="ruleSays">
      <template #aside>
        <p class="small">
          Whatever the rule says, those stay that are pinned, from which another run began, and the last one of a run
          that is not over. Until their bytes go they can be brought back.
        </p>
      </template>
      <KeepRule ref="form" :project="project" :state="state" @changed="changed" />
    </Question>
  </main>
</template>

<style scoped>
.space {
  flex: 1;
}
table {
  width: 100%;
}
.name {
  max-width: 250px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.wide {
  width: 34%;
}
.key {
  display: inline-block;
  width: 14px;
  height: 9px;
  margin: 0 2px 0 8px;
}
.key.own {
  background: var(--accent);
  margin-left: 0;
}
.key.shared {
  background: repeating-linear-gradient(135deg, var(--accent) 0 1.5px, var(--accent2) 1.5px 5px);
}
.more {
  margin-top: 8px;
  background: none;
  border: 0;
  color: var(--accent);
  cursor: pointer;
  font-size: 12px;
}
</style>
