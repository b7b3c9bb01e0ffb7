<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { answer, client, session } from '../api/client'
import Question from '../shared/Question.vue'
import { useLive } from '../shared/live'
import { useActing, useLoading } from '../shared/loading'
import { when } from '../shared/format'
import RoleList from './RoleList.vue'
import { type Person, roles, type RoleName, type Team } from '../shared/roles'

/** Who may sign in, and which teams there are. Administrators change both; others see them. */
const people = ref<Person[]>()
const teams = ref<Team[]>([])
const link = reactive({ name: '', address: '' })
const fresh = reactive<{ name: string; role: RoleName | ''; machine: boolean; team: string }>({
  name: '',
  role: 'member',
  machine: false,
  team: '',
})
const team = reactive({ name: '', people: [] as string[] })
const { problem, loader } = useLoading()
const load = loader(async () => {
  people.value = (await answer(client.GET('/api/v1/people', { params: { query: { limit: 500 } } }))).items ?? []
})
const loadTeams = loader(async () => {
  teams.value = (await answer(client.GET('/api/v1/teams'))).items ?? []
})
const both = async () => {
  await Promise.all([load(), loadTeams()])
}
useLive({}, { hello: both, person: load, team: both, role: load })

const may = computed(() => !!session.me?.administrator)
const addresses = computed(() => people.value?.some((p) => p.email))
const here = computed(() => (people.value ?? []).filter((p) => !p.closed))
const says = computed(() => {
  const machines = here.value.filter((p) => p.kind === 'machine').length
  const closed = (people.value?.length ?? 0) - here.value.length
  const count = (n: number, one: string, more: string) => `${n} ${n === 1 ? one : more}`
  const parts = [count(here.value.length - machines, 'person', 'people') + ' may sign in']
  if (machines) parts.push(count(machines, 'machine has', 'machines have') + ' tokens')
  if (closed) parts.push(`${closed} closed`)
  return parts.join(', ') + '.'
})
const teamsSay = computed(() =>
  teams.value.length
    ? 'A role given to a team is everybody’s who is in it.'
    : 'There is none yet. A role given to a team is everybody’s who is in it.',
)

const { refused, act } = useActing(both)
const change = (p: Person, body: { role?: RoleName | ''; closed?: boolean; administrator?: boolean }) =>
  act(() => answer(client.PATCH('/api/v1/people/{name}', { params: { path: { name: p.name } }, body })))
const showLink = (name: string) =>
  act(async () => {
    const made = await answer(client.POST('/api/v1/people/{name}/links', { params: { path: { name } } }))
    link.name = name
    link.address = location.origin + made.path
  })
const add = () =>
  act(async () => {
    const machine = fresh.machine
    const name = fresh.name.trim()
    const body = { name, role: machine ? ('' as const) : fresh.role, machine, team: machine ? fresh.team : '' }
    await answer(client.POST('/api/v1/people', { body }))
    fresh.name = fresh.team = ''
    if (!machine) await showLink(name)
  })
const setTeam = () =>
  act(async () => {
    const params = { path: { team: team.name.trim() } }
    await answer(client.PUT('/api/v1/teams/{team}', { params, body: { people: team.people } }))
    team.name = ''
    team.people = []
  })
const dropTeam = (name: string) =>
  act(() => answer(client.DELETE('/api/v1/teams/{team}', { params: { path: { team: name } } })))
function edit(t: Team) {
  team.name = t.name
  team.people = [...(t.people ?? [])]
}
</script>

<template>
  <main>
    <div class="page-top">
      <h1>People and teams</h1>
      <span class="space"></span>
      <RouterLink v-if="may || session.me?.role === 'owner'" to="/subscriptions" class="small">
        Subscriptions
      </RouterLink>
      <RouterLink v-if="may" to="/audit" class="small">What was done</RouterLink>
    </div>
    <p v-if="problem || refused" class="bad page-top" role="alert">{{ problem || refused }}</p>
    <Question v-if="people" title="Who is here?" :says="says">
      <template #aside>
        <p class="small">
          A role here holds on every open project. Roles on one project stand on its page
          <i>Access</i>
          ; closed projects are seen only by those who have one there.
        </p>
        <RoleList />
        <p v-if="!may" class="small">Administrators add people and change what they are.</p>
      </template>
      <p v-if="link.address" class="link" role="status">
        Signs {{ link.name }} in once, within 15 minutes:
        <span class="mono">{{ link.address }}</span>
      </p>
      <table>
        <thead>
          <tr>
            <th>Name</th>
            <th>Role on the service</th>
            <th>Teams</th>
            <th v-if="addresses">E-mail</th>
            <th v-if="may"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in people" :key="p.name" :class="{ closed: p.closed }">
            <td>
              {{ p.name }}
              <span v-if="p.kind === 'machine'" class="small">machine</span>
            </td>
            <td>
              <span v-if="p.closed" class="small">closed {{ when(p.closed) }}</span>
              <span v-else-if="p.administrator">administrator</span>
              <ElSelect
                v-else-if="may"
                :model-value="p.role ?? ''"
                size="small"
                class="choose"
                placeholder="none"
                :aria-label="`Role of ${p.name}`"
                @change="(role: RoleName | '') => change(p, { role })"
              >
                <ElOption value="" label="none" />
                <ElOption v-for="r in roles" :key="r.name" :value="r.name" :label="r.name" />
              </ElSelect>
              <span v-else>{{ p.role ?? '' }}</span>
            </td>
            <td>{{ p.kind === 'machine' ? p.team : p.teams?.join(', ') }}</td>
            <td v-if="addresses" class="small">{{ p.email }}</td>
            <td v-if="may" class="acts">
              <ElButton v-if="p.closed" link size="small" @click="change(p, { closed: false })">Let in again</ElButton>
              <template v-else>
                <ElButton v-if="p.kind === 'person'" link size="small" @click="showLink(p.name)">Sign-in link</ElButton>
                <ElButton v-if="p.name !== session.me?.name" link size="small" @click="change(p, { closed: true })">
                  Close
                </ElButton>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <form v-if="may" class="add" @submit.prevent="add">
        <label>
          Add
          <ElInput v-model="fresh.name" size="small" placeholder="name" class="name" required />
        </label>
        <ElCheckbox v-model="fresh.machine" size="small">a machine</ElCheckbox>
        <label v-if="!fresh.machine">
          as
          <ElSelect
            v-model="fresh.role"
            size="small"
            class="choose"
            placeholder="no role"
            aria-label="Role of the new person"
          >
            <ElOption value="" label="no role" />
            <ElOption v-for="r in roles" :key="r.name" :value="r.name" :label="r.name" />
          </ElSelect>
        </label>
        <label v-else>
          of
          <ElSelect
            v-model="fresh.team"
            size="small"
            class="choose"
            placeholder="no team"
            aria-label="Team of the machine"
          >
            <ElOption value="" label="no team" />
            <ElOption v-for="t in teams" :key="t.name" :value="t.name" :label="t.name" />
          </ElSelect>
        </label>
        <ElButton size="small" native-type="submit" :disabled="!fresh.name.trim()">Add</ElButton>
      </form>
    </Question>
    <Question v-if="people" title="Which teams are there?" :says="teamsSay">
      <table v-if="teams.length">
        <thead>
          <tr>
            <th>Team</th>
            <th>People</th>
            <th v-if="may"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in teams" :key="t.name">
            <td>{{ t.name }}</td>
            <td class="many">{{ t.people?.join(', ') }}</td>
            <td v-if="may" class="acts">
              <ElButton link size="small" @click="edit(t)">Change</ElButton>
              <ElButton link size="small" @click="dropTeam(t.name)">Delete</ElButton>
            </td>
          </tr>
        </tbody>
      </table>
      <form v-if="may" class="add" @submit.prevent="setTeam">
        <label>
          Team
          <ElInput v-model="team.name" size="small" placeholder="name" class="name" required />
        </label>
        <label>
          of
          <ElSelect
            v-model="team.people"
            size="small"
            multiple
            filterable
            class="wide"
            placeholder="people"
            aria-label="People of the team"
          >
            <ElOption v-for="p in here" :key="p.name" :value="p.name" :label="p.name" />
          </ElSelect>
        </label>
        <ElButton size="small" native-type="submit" :disabled="!team.name.trim()">Set</ElButton>
      </form>
    </Question>
  </main>
</template>

<style scoped>
.closed td {
  color: var(--ink2);
}
.choose {
  width: 120px;
}
.wide {
  width: 320px;
}
.name {
  width: 180px;
}
.many {
  white-space: normal;
}
.link {
  margin: 0 0 10px;
}
</style>
