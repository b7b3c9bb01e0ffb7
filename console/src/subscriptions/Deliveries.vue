<script setup lang="ts">
import { ElButton, ElSegmented } from 'element-plus'
import { onScopeDispose, ref, watch } from 'vue'
import { answer, client, type Delivery } from '../api/client'
import { when } from '../shared/format'
import { useLoading } from '../shared/loading'
import { shortType, subjectLink } from './deliveries'

/** What a subscription was told, the latest first; each opens to what was sent and answered, and is sent again. */
const props = defineProps<{ project: string; subscription: string }>()
type State = 'waiting' | 'delivered' | 'parked'
const state = ref<State | 'all'>('all')
const rows = ref<Delivery[]>()
const more = ref('')
const opened = ref<Delivery>()
const said = ref('')
const { problem, loader } = useLoading()
const path = { project: props.project, subscription: props.subscription }
const page = (cursor?: string) =>
  answer(
    client.GET('/api/v1/projects/{project}/subscriptions/{subscription}/deliveries', {
      params: { path, query: { limit: 50, cursor, state: state.value === 'all' ? undefined : state.value } },
    }),
  )
const load = loader(async () => {
  if ((rows.value?.length ?? 0) > 50) return // somebody reads what is further down
  const got = await page()
  rows.value = got.items ?? []
  more.value = got.next ?? ''
})
const loadMore = loader(async () => {
  const got = await page(more.value)
  rows.value = [...(rows.value ?? []), ...(got.items ?? [])]
  more.value = got.next ?? ''
})
void load()
watch(state, () => {
  rows.value = undefined
  void load()
})
const timer = window.setInterval(() => document.visibilityState === 'visible' && void load(), 3000)
onScopeDispose(() => clearInterval(timer))

async function open(d: Delivery) {
  if (opened.value?.event === d.event) {
    opened.value = undefined
    return
  }
  try {
    opened.value = await answer(
      client.GET('/api/v1/projects/{project}/subscriptions/{subscription}/deliveries/{event}', {
        params: { path: { ...path, event: d.event } },
      }),
    )
  } catch (e) {
    said.value = (e as Error).message
  }
}
async function act(work: () => Promise<{ count: number }>) {
  try {
    const { count } = await work()
    said.value = count === 1 ? 'It is told again.' : `${count} are told again.`
    await load()
  } catch (e) {
    said.value = (e as Error).message
  }
}
const again = (d: Delivery) =>
  act(() =>
    answer(
      client.POST('/api/v1/projects/{project}/subscriptions/{subscription}/deliveries/{event}/again', {
        params: { path: { ...path, event: d.event } },
      }),
    ),
  )
const parkedAgain = () =>
  act(() =>
    answer(client.POST('/api/v1/projects/{project}/subscriptions/{subscription}/parked/again', { params: { path } })),
  )
</script>

<template>
  <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
  <div class="head">
    <ElSegmented v-model="state" size="small" :options="['all', 'waiting', 'delivered', 'parked']" aria-label="State" />
    <ElButton v-if="state === 'parked' && rows?.length" size="small" @click="parkedAgain">Send all again</ElButton>
    <span class="small" role="status">{{ said }}</span>
  </div>
  <table v-if="rows?.length">
    <thead>
      <tr>
        <th class="n">Event</th>
        <th>At</th>
        <th>What</th>
        <th>Of</th>
        <th>State</th>
        <th class="n">Attempts</th>
        <th>Answer</th>
        <th><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <template v-for="d in rows" :key="d.event">
        <tr>
          <td class="n">
            <ElButton link size="small" :aria-expanded="opened?.event === d.event" @click="open(d)">
              {{ d.event }}
            </ElButton>
          </td>
          <td class="small">{{ when(d.at) }}</td>
          <td class="mono">{{ shortType(d.type) }}</td>
          <td class="mono">
            <RouterLink v-if="subjectLink(d.subject)" :to="subjectLink(d.subject)!">{{ d.subject }}</RouterLink>
            <template v-else>{{ d.subject }}</template>
          </td>
          <td :class="{ warn: d.state === 'parked' }">{{ d.state }}</td>
          <td class="n">{{ d.attempts || '' }}</td>
          <td class="small long">
            {{ d.trouble || d.status }}{{ d.next ? `; again at ${when(d.next)}` : ''
            }}{{ d.state === 'delivered' ? `, ${d.took_ms} ms` : '' }}
          </td>
          <td class="acts">
            <ElButton v-if="d.state !== 'waiting'" link size="small" @click="again(d)">Send again</ElButton>
          </td>
        </tr>
        <tr v-if="opened?.event === d.event">
          <td colspan="8" class="opened">
            <p v-if="opened.answer" class="small">
              Answered:
              <span class="mono">{{ opened.answer }}</span>
            </p>
            <pre tabindex="0" class="command">{{ JSON.stringify(opened.request, null, 2) }}</pre>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
  <p v-else-if="rows" class="small">None.</p>
  <ElButton v-if="more" size="small" class="more" @click="loadMore">More</ElButton>
</template>

<style scoped>
.head {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-bottom: 10px;
}
.long {
  white-space: normal;
}
.acts {
  text-align: right;
}
.opened {
  white-space: normal;
}
.more {
  margin-top: 10px;
}
</style>
