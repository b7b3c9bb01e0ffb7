<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { answer, client, session } from '../api/client'
import Question from '../shared/Question.vue'
import { useLoading } from '../shared/loading'
import { useQuery } from '../shared/query'
import { when } from '../shared/format'
import type { Event } from '../shared/roles'

/** What was done, by whom and from where: of the service, or of a project. */
const props = defineProps<{ project?: string }>()
const kinds = [
  'session',
  'person',
  'team',
  'role',
  'project',
  'search',
  'run',
  'leg',
  'checkpoint',
  'snapshot',
  'service',
]
const who = useQuery('who', '')
const kind = useQuery('kind', '')
const subject = useQuery('subject', '')
const events = ref<Event[]>()
const next = ref('')
const checked = ref('')
const refused = ref('')
const { problem, loader } = useLoading()
const page = async (cursor: string) => {
  const ask = {
    limit: 100,
    cursor: cursor || undefined,
    who: who.value || undefined,
    kind: kind.value || undefined,
    subject: subject.value || undefined,
  }
  const got = props.project
    ? await answer(
        client.GET('/api/v1/projects/{project}/audit', { params: { path: { project: props.project }, query: ask } }),
      )
    : await answer(client.GET('/api/v1/audit', { params: { query: ask } }))
  next.value = got.next ?? ''
  return got.items ?? []
}
const load = loader(async () => {
  events.value = await page('')
})
const more = loader(async () => {
  events.value = [...(events.value ?? []), ...(await page(next.value))]
})
void load()
watch([who, kind, subject], () => void load())
const says = computed(() =>
  props.project
    ? 'What changed in this project, the latest first.'
    : 'What changed, who signed in and who was refused, the latest first.',
)
async function check() {
  refused.value = checked.value = ''
  try {
    checked.value = (await answer(client.POST('/api/v1/audit/check'))).says
  } catch (e) {
    refused.value = (e as Error).message
  }
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>
        Audit
        <template v-if="project">of {{ project }}</template>
      </h1>
    </div>
    <p v-if="problem || refused" class="bad page-top" role="alert">{{ problem || refused }}</p>
    <Question title="What was done?" :says="says">
      <template #aside>
        <p class="small">
          Events are written once. The database refuses to change them, and each has a digest over itself and the one
          before.
        </p>
        <template v-if="!project && session.me?.administrator">
          <ElButton size="small" @click="check">Check them all</ElButton>
          <p v-if="checked" class="small" role="status">{{ checked }}</p>
        </template>
      </template>
      <form class="filter" @submit.prevent="load">
        <ElInput v-model.lazy="who" size="small" placeholder="by whom" aria-label="By whom" class="field" clearable />
        <ElSelect v-model="kind" size="small" placeholder="kind" aria-label="Kind" class="field" clearable>
          <ElOption v-for="k in kinds" :key="k" :value="k" :label="k" />
        </ElSelect>
        <ElInput
          v-model.lazy="subject"
          size="small"
          placeholder="of what, such as vessels/3"
          aria-label="Of what"
          class="field wide"
          clearable
        />
      </form>
      <table v-if="events?.length">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>Kind</th>
            <th>Of</th>
            <th>What</th>
            <th>From</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in events" :key="e.id">
            <td class="small">{{ when(e.at ?? '') }}</td>
            <td>
              <template v-if="e.who">{{ e.who }}</template>
              <span v-else class="small">{{ e.verb === 'sign-in-failed' ? 'not signed in' : 'the service' }}</span>
            </td>
            <td class="small">{{ e.kind }}</td>
            <td class="mono">{{ e.subject }}</td>
            <td class="says" :class="{ bad: e.verb === 'sign-in-failed' }">{{ e.says }}</td>
            <td class="mono">{{ e.from }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="events">Nothing of that was done.</p>
      <ElButton v-if="next" size="small" class="more" @click="more">More</ElButton>
    </Question>
  </main>
</template>

<style scoped>
.filter {
  display: flex;
  gap: 12px;
  margin-bottom: 12px;
}
.field {
  width: 150px;
}
.wide {
  width: 230px;
}
.says {
  white-space: normal;
}
.more {
  margin-top: 12px;
}
</style>
