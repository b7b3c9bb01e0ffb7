<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onScopeDispose, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, client, type Subscription } from '../api/client'
import Question from '../shared/Question.vue'
import { when } from '../shared/format'
import { useActing, useLoading } from '../shared/loading'
import Deliveries from './Deliveries.vue'
import NewSubscription from './NewSubscription.vue'

/** Who is told of what happens in a project (*: in the whole service), how it goes, and what one of them was told. */
const props = defineProps<{ project: string }>()
const route = useRoute()
const router = useRouter()
const all = ref<Subscription[]>()
const secret = ref('')
const making = ref(false)
const { problem, loader } = useLoading()
const load = loader(async () => {
  const page = await answer(
    client.GET('/api/v1/projects/{project}/subscriptions', { params: { path: { project: props.project } } }),
  )
  all.value = page.items ?? []
})
void load()
const again = window.setInterval(() => document.visibilityState === 'visible' && void load(), 3000)
onScopeDispose(() => clearInterval(again))

const chosen = computed(() => all.value?.find((s) => s.name === route.query.subscription) ?? all.value?.[0])
const choose = (s: Subscription) => router.replace({ query: { subscription: s.name } })
watch(
  () => chosen.value?.name,
  () => (refused.value = ''),
)
const says = computed(() => {
  const list = all.value ?? []
  if (!list.length) return 'Nobody yet.'
  const some = list.length === 1 ? '1 address' : `${list.length} addresses`
  const bad = list.filter((s) => s.state === 'failing').length
  const parked = list.reduce((n, s) => n + s.parked, 0)
  return `${some}${bad ? `; ${bad === 1 ? 'one takes' : `${bad} take`} nothing at the moment` : ''}${parked ? `; ${parked === 1 ? '1 event was' : `${parked} events were`} given up` : ''}.`
})
const events = (s: Subscription) => (s.kinds?.length ? s.kinds.join(', ') : 'all')
const path = (s: Subscription) => ({ path: { project: props.project, subscription: s.name } })

const { refused, act } = useActing(load)
const pause = (s: Subscription, paused: boolean) =>
  act(() =>
    answer(
      client.PATCH('/api/v1/projects/{project}/subscriptions/{subscription}', { params: path(s), body: { paused } }),
    ),
  )
const drop = (s: Subscription) =>
  act(async () => {
    await answer(client.DELETE('/api/v1/projects/{project}/subscriptions/{subscription}', { params: path(s) }))
    deleting.value = ''
  })
const renew = (s: Subscription) =>
  act(async () => {
    const got = await answer(
      client.POST('/api/v1/projects/{project}/subscriptions/{subscription}/secret', { params: path(s) }),
    )
    secret.value = got.secret ?? ''
  })
const tried = ref('')
const attempt = (s: Subscription) =>
  act(async () => {
    tried.value = ''
    const d = await answer(
      client.POST('/api/v1/projects/{project}/subscriptions/{subscription}/try', { params: path(s) }),
    )
    tried.value = d.trouble
      ? `The message was not taken: ${d.trouble}.`
      : `The message was taken: ${d.status}, in ${d.took_ms} ms.`
  })
const deleting = ref('')
function made(s: Subscription) {
  secret.value = s.secret ?? ''
  void load()
  void choose(s)
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>Subscriptions of {{ project === '*' ? 'the service' : project }}</h1>
      <span class="space"></span>
      <ElButton size="small" @click="making = true">New subscription …</ElButton>
    </div>
    <p v-if="problem || refused" class="bad page-top" role="alert">{{ problem || refused }}</p>
    <Question v-if="all" title="Who is told of what happens here?" :says="says">
      <template #aside>
        <p v-if="project === '*'" class="small">Of what happens in all projects, and of new data.</p>
        <p class="small">
          Each is told by HTTP, as CloudEvents, signed. What is not taken is sent again for three days, then parked.
        </p>
      </template>
      <p v-if="secret" class="secret" role="status">
        The secret, shown this once:
        <span class="mono">{{ secret }}</span>
      </p>
      <table v-if="all.length">
        <thead>
          <tr>
            <th>Subscription</th>
            <th>Address</th>
            <th>Events</th>
            <th>Of</th>
            <th>State</th>
            <th class="n">Waiting</th>
            <th class="n">Parked</th>
            <th>Last taken</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in all" :key="s.name" :class="{ chosen: s.name === chosen?.name }">
            <td>
              <RouterLink class="mono" :to="{ query: { subscription: s.name } }" replace>{{ s.name }}</RouterLink>
            </td>
            <td class="mono long">{{ s.url }}</td>
            <td class="mono long">{{ events(s) }}</td>
            <td class="mono">{{ s.subject }}</td>
            <td :class="{ bad: s.state === 'failing', small: s.state === 'paused' }">{{ s.state }}</td>
            <td class="n">{{ s.waiting || '' }}</td>
            <td class="n" :class="{ warn: s.parked }">{{ s.parked || '' }}</td>
            <td class="small">{{ s.delivered ? when(s.delivered) : '' }}</td>
          </tr>
        </tbody>
      </table>
    </Question>
    <Question v-if="chosen" :title="`How does ${chosen.name} take it?`" :says="chosen.says">
      <template #aside>
        <p v-if="chosen.where" class="small">
          Of runs where
          <span class="mono">{{ chosen.where }}</span>
        </p>
        <p v-if="chosen.machine" class="small">It may report back as {{ chosen.machine }}.</p>
        <p v-if="tried" class="small" role="status">{{ tried }}</p>
        <div class="acts">
          <ElButton size="small" @click="attempt(chosen)">Try it</ElButton>
          <ElButton v-if="chosen.state === 'paused'" size="small" @click="pause(chosen, false)">Go on</ElButton>
          <ElButton v-else size="small" @click="pause(chosen, true)">Pause</ElButton>
          <ElButton size="small" @click="renew(chosen)">New secret</ElButton>
          <ElButton v-if="deleting !== chosen.name" size="small" @click="deleting = chosen.name">Delete …</ElButton>
          <ElButton v-else size="small" type="danger" @click="drop(chosen)">
            Delete it, and what is known of it
          </ElButton>
        </div>
      </template>
      <Deliveries :key="chosen.name" :project="project" :subscription="chosen.name" />
    </Question>
    <NewSubscription v-model="making" :project="project" @made="made" />
  </main>
</template>

<style scoped>
.long {
  white-space: normal;
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.acts .el-button {
  margin: 0;
}
.secret {
  overflow-wrap: anywhere;
}
.chosen td {
  background: var(--accent2);
}
</style>
