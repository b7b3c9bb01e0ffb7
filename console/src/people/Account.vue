<script setup lang="ts">
import { ElButton, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { answer, client, type Project, session } from '../api/client'
import Question from '../shared/Question.vue'
import { useActing, useLoading } from '../shared/loading'
import { when } from '../shared/format'
import { roles, type RoleName, scopeText, type Session, type Token } from '../shared/roles'

/** One's own tokens and sessions. */
const tokens = ref<Token[]>()
const sessions = ref<Session[]>([])
const projects = ref<Project[]>([])
const secret = ref('')
const fresh = reactive<{ name: string; days: number; role: RoleName | ''; project: string; networks: string }>({
  name: '',
  days: 90,
  role: '',
  project: '',
  networks: '',
})
const { problem, loader } = useLoading()
const load = loader(async () => {
  tokens.value = (await answer(client.GET('/api/v1/tokens'))).items ?? []
  sessions.value = (await answer(client.GET('/api/v1/me/sessions'))).items ?? []
})
const loadProjects = loader(async () => {
  projects.value = (await answer(client.GET('/api/v1/projects', { params: { query: { limit: 500 } } }))).items ?? []
})
void load()
void loadProjects()

const good = computed(() => (tokens.value ?? []).filter((t) => !t.revoked && new Date(t.expires) > new Date()))
const says = computed(() => {
  const wide = good.value.filter((t) => !t.scope).length
  const text = `${good.value.length} ${good.value.length === 1 ? 'token is' : 'tokens are'} good`
  if (!wide) return text + '.'
  return `${text}; ${wide === 1 ? 'one of them may' : `${wide} of them may`} all that you may.`
})

const { refused, act } = useActing(load)
const revoke = (t: Token) => act(() => answer(client.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })))
const end = (s: Session) =>
  act(() => answer(client.DELETE('/api/v1/me/sessions/{id}', { params: { path: { id: s.id } } })))
const create = () =>
  act(async () => {
    const networks = fresh.networks.split(/[\s,]+/).filter(Boolean)
    const body = {
      name: fresh.name.trim(),
      days: fresh.days,
      ...(fresh.role && { role: fresh.role }),
      ...(fresh.project && { project: fresh.project }),
      ...(networks.length && { networks }),
    }
    secret.value = (await answer(client.POST('/api/v1/tokens', { body }))).secret
    fresh.name = ''
  })
</script>

<template>
  <main>
    <div class="page-top">
      <h1>Tokens and sessions of {{ session.me?.name }}</h1>
    </div>
    <p v-if="problem || refused" class="bad page-top" role="alert">{{ problem || refused }}</p>
    <Question v-if="tokens" title="What signs in as me?" :says="says">
      <template #aside>
        <p class="small">
          A program or a terminal signs in with a token (KEMBREL_TOKEN). One that only records runs needs the role
          recorder, on one project; then whoever finds it can do no more.
        </p>
        <p class="small">A token that ends takes with it what was created with it.</p>
      </template>
      <p v-if="secret" class="secret" role="status">
        Shown this once:
        <span class="mono">{{ secret }}</span>
      </p>
      <table v-if="good.length">
        <thead>
          <tr>
            <th>Token</th>
            <th>Narrowed to</th>
            <th>Last used</th>
            <th>From</th>
            <th>Expires</th>
            <th><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in good" :key="t.id">
            <td>{{ t.name }}</td>
            <td>
              <template v-if="t.scope">{{ scopeText(t.scope) }}</template>
              <span v-else class="small">nothing</span>
            </td>
            <td class="small">{{ t.used ? when(t.used) : 'never' }}</td>
            <td class="mono">{{ t.from }}</td>
            <td class="small">{{ when(t.expires) }}</td>
            <td class="acts"><ElButton link size="small" @click="revoke(t)">Revoke</ElButton></td>
          </tr>
        </tbody>
      </table>
      <form class="add" @submit.prevent="create">
        <label>
          Create
          <ElInput v-model="fresh.name" size="small" placeholder="what it is for" class="name" required />
        </label>
        <label>
          no more than
          <ElSelect v-model="fresh.role" size="small" class="choose" placeholder="I may" aria-label="Role of the token">
            <ElOption value="" label="I may" />
            <ElOption v-for="r in roles" :key="r.name" :value="r.name" :label="r.name" />
          </ElSelect>
        </label>
        <label>
          on
          <ElSelect
            v-model="fresh.project"
            size="small"
            class="choose"
            placeholder="all projects"
            aria-label="Project of the token"
          >
            <ElOption value="" label="all projects" />
            <ElOption v-for="p in projects" :key="p.key" :value="p.key" :label="p.key" />
          </ElSelect>
        </label>
        <label>
          from
          <ElInput v-model="fresh.networks" size="small" placeholder="all addresses" class="name" />
        </label>
        <label>
          for
          <ElInputNumber v-model="fresh.days" size="small" :min="1" :max="730" :controls="false" class="days" />
          days
        </label>
        <ElButton size="small" native-type="submit" :disabled="!fresh.name.trim()">Create</ElButton>
      </form>
    </Question>
    <Question v-if="tokens" title="Where am I signed in?" :says="`${sessions.length} in a browser.`">
      <table v-if="sessions.length">
        <thead>
          <tr>
            <th>Opened</th>
            <th>From</th>
            <th>Last used</th>
            <th>Expires</th>
            <th><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in sessions" :key="s.id">
            <td>
              {{ when(s.created) }}
              <span v-if="s.this" class="small">this one</span>
            </td>
            <td class="mono">{{ s.from }}</td>
            <td class="small">{{ when(s.used) }}</td>
            <td class="small">{{ when(s.expires) }}</td>
            <td class="acts"><ElButton v-if="!s.this" link size="small" @click="end(s)">End</ElButton></td>
          </tr>
        </tbody>
      </table>
    </Question>
  </main>
</template>

<style scoped>
.name {
  width: 125px;
}
.choose {
  width: 112px;
}
.days {
  width: 60px;
}
.secret {
  margin: 0 0 10px;
  overflow-wrap: anywhere;
}
</style>
